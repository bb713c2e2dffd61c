import { useInfiniteQuery, useQuery } from "@tanstack/react-query";

import { get } from "../api/http";
import type { KeptFile, Preview } from "../api/types";
import { keys } from "./queryClient";

export interface FilePage {
  files: KeptFile[];
  next: string | null;
}

/** The files that are kept, newest first, page by page. */
export function useFiles() {
  return useInfiniteQuery({
    queryKey: keys.files,
    initialPageParam: "",
    queryFn: ({ pageParam }) => {
      const query = new URLSearchParams({ limit: "50" });
      if (pageParam) query.set("cursor", pageParam);
      return get<FilePage>(`/files?${query}`);
    },
    getNextPageParam: (page) => page.next ?? undefined,
    // Keeping a file sends no event; a page that is opened asks anew.
    refetchOnMount: "always",
  });
}

/** What is in a file, at a glance; a file never changes. */
export function usePreview(sha256: string) {
  return useQuery({
    queryKey: keys.preview(sha256),
    queryFn: () => get<Preview>(`/files/${sha256}/preview`),
  });
}
