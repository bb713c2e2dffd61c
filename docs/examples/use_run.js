// A run as state of a React component: const { run, named } = useRun(address);
import { useEffect, useState } from "react";

const NOTHING = { run: null, published: [], named: {}, connection: "connecting", reason: "" };

export function useRun(address) {
  const [now, setNow] = useState(NOTHING);
  useEffect(() => {
    let end = () => {};
    let wanted = true;
    import(/* @vite-ignore */ new URL("/follow.js", address)).then(({ follow }) => {
      if (wanted) end = follow(address, setNow);
    });
    return () => {
      wanted = false;
      end();
    };
  }, [address]);
  return now;
}
