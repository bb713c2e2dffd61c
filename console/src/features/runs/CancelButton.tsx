import { IconBan } from "@tabler/icons-react";

import type { Run } from "../../api/types";
import { Opening } from "../../components/Opening";
import { ReasonForm } from "../../components/ReasonForm";
import { useCancel } from "../../queries/runs";

const WORDS =
  "Nothing new starts. A running step is told to stop; what it returns within its grace is kept, " +
  "then its process is killed.";

/** Tells a run to stop, after saying what that does and asking why. */
export function CancelButton({ run }: { run: Run }) {
  const cancel = useCancel(run.number);
  return (
    <Opening label="Cancel run" icon={<IconBan size={16} />} size="sm" width={330}>
      {(close) => (
        <ReasonForm
          words={WORDS}
          yes={`Cancel run ${run.number}`}
          no="Keep it running"
          color="red"
          mutation={cancel}
          onClose={close}
        />
      )}
    </Opening>
  );
}
