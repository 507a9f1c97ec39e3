import { useInfiniteQuery } from "@tanstack/react-query";
import type { UseInfiniteQueryOptions } from "@tanstack/react-query";
import { useCallback } from "react";

type Pages<T> = { pages: { items: T[]; count?: number; next?: string }[] };

/** A list that comes page by page: what of it is here, how long it is, and how to get more. */
export function usePages<T>(options: unknown) {
  const list = useInfiniteQuery(options as UseInfiniteQueryOptions<unknown, Error, Pages<T>>);
  const { fetchNextPage, hasNextPage, isFetching } = list;
  const more = useCallback(() => {
    if (hasNextPage && !isFetching) void fetchNextPage();
  }, [fetchNextPage, hasNextPage, isFetching]);
  return {
    items: list.data?.pages.flatMap((p) => p.items) ?? [],
    count: list.data?.pages[0]?.count ?? 0,
    error: list.error,
    isSuccess: list.isSuccess,
    more: hasNextPage ? more : undefined,
  };
}
