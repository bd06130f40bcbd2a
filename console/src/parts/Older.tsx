// Lists that begin with the newest and go back in time, a page at a time.
import { type InfiniteData, type UseInfiniteQueryResult, useInfiniteQuery } from "@tanstack/react-query";

import { Button } from "./ui";

interface Back<T> {
    items: T[];
    next?: number | null;
}

export type OlderList<T> = UseInfiniteQueryResult<InfiniteData<Back<T>>>;

/** The newest first, and what is older as it is asked for; `read` gives what came before a number. */
export function useOlder<T>(key: string[], read: (before: number | undefined) => Promise<Back<T>>, refetchInterval?: number) {
    const list: OlderList<T> = useInfiniteQuery({
        queryKey: [...key, "older"],
        initialPageParam: undefined as number | undefined,
        queryFn: ({ pageParam }) => read(pageParam),
        getNextPageParam: (page) => page.next ?? undefined,
        ...(refetchInterval === undefined ? {} : { refetchInterval }),
    });
    return { list, items: (list.data?.pages ?? []).flatMap((page) => page.items) };
}

/** Asks for the next page, where there is one. */
export function Older<T>({ list, word }: { list: OlderList<T>; word: string }) {
    if (!list.hasNextPage) return null;
    return (
        <Button
            className="mt-3"
            disabled={list.isFetchingNextPage}
            onClick={() => {
                void list.fetchNextPage();
            }}
        >
            {word}
        </Button>
    );
}
