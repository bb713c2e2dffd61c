import { Skeleton } from "@mantine/core";
import { lazy, Suspense, type ComponentProps } from "react";

const MinuteChart = lazy(async () => ({ default: (await import("./MinuteChart")).MinuteChart }));

/** A chart by minute; what draws it is fetched when one is first shown. */
export function Chart(props: ComponentProps<typeof MinuteChart>) {
  return (
    <Suspense fallback={<Skeleton h={props.height ?? 150} />}>
      <MinuteChart {...props} />
    </Suspense>
  );
}
