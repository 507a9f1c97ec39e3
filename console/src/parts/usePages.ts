import type { InfiniteData, UseInfiniteQueryResult } from "@tanstack/react-query";
import { useCallback } from "react";

type Page = { items: unknown[]; count?: number; next?: string };

/** A list that comes page by page: what of it is here, how long it is, and how to get more. */
export function usePages<P extends Page>(list: UseInfiniteQueryResult<InfiniteData<P>>) {
  const { fetchNextPage, hasNextPage, isFetching } = list;
  const more = useCallback(() => {
    if (hasNextPage && !isFetching) void fetchNextPage();
  }, [fetchNextPage, hasNextPage, isFetching]);
  const items: P["items"][number][] = list.data?.pages.flatMap((p) => p.items) ?? [];
  return {
    items,
    count: list.data?.pages[0]?.count ?? 0,
    error: list.error,
    isSuccess: list.isSuccess,
    more: hasNextPage ? more : undefined,
  };
}
