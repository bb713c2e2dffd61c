import { BaseEdge, type Edge, type EdgeProps } from "@xyflow/react";

export type ThreadEdgeType = Edge<{ path: string }, "thread">;

/** A thread on its route. */
export function ThreadEdge({ id, data, style }: EdgeProps<ThreadEdgeType>) {
  return data ? <BaseEdge id={id} path={data.path} style={style} /> : null;
}
