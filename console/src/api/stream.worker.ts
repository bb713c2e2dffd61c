/** The worker that holds the event stream for all tabs of this service. */

import { streamPath } from "./paths";
import { Stream, type Wish } from "./stream";

interface SharedScope {
  onconnect: ((event: MessageEvent) => void) | null;
}

const stream = new Stream<MessagePort>(streamPath, (port, word) => port.postMessage(word));

(self as unknown as SharedScope).onconnect = ({ ports: [port] }) => {
  if (!port) return;
  port.onmessage = ({ data }: MessageEvent<Wish | null>) => {
    if (data) stream.wish(port, data);
    else stream.leave(port);
  };
};
