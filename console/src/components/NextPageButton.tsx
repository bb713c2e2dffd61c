import { Button } from "@mantine/core";

interface Props {
  /** A list that comes page by page. */
  pages: { hasNextPage: boolean; isFetchingNextPage: boolean; fetchNextPage: () => unknown };
  label: string;
}

/** The button for a list's next page; nothing where there is none. */
export function NextPageButton({ pages, label }: Props) {
  return pages.hasNextPage ? (
    <Button
      variant="default"
      size="xs"
      onClick={() => void pages.fetchNextPage()}
      loading={pages.isFetchingNextPage}
    >
      {label}
    </Button>
  ) : null;
}
