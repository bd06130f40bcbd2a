// Long lists: filters that stay in the address, pages as they are asked for, keys to move by.
import { keepPreviousData, useInfiniteQuery } from "@tanstack/react-query";
import { useNavigate, useSearch } from "@tanstack/react-router";
import { type KeyboardEvent, type ReactNode, useEffect, useRef, useState } from "react";

import { page } from "../api/client";
import { Button, Empty, FIELD, Failure, TALL, TABLE } from "./ui";

/** Words of the address that a list is filtered and sorted by. */
export type Filters = Record<string, string | undefined>;

/** The filters in the address, and how to change one. */
export function useFilters(): [Filters, (name: string, value: string | undefined) => void] {
    const found: Record<string, unknown> = useSearch({ strict: false });
    const filters: Filters = {};
    for (const [name, value] of Object.entries(found)) {
        // What looks like a number or a yes in an address is read as one.
        if (typeof value === "string" || typeof value === "number" || typeof value === "boolean") filters[name] = String(value);
    }
    const navigate = useNavigate();
    const change = (name: string, value: string | undefined) => {
        const next: Filters = { ...filters, [name]: value === "" ? undefined : value };
        void navigate({ to: ".", search: next as never, replace: true });
    };
    return [filters, change];
}

/** A list of the service, page after page. */
export function useList<T>(noun: string, filters: Filters, more: Filters = {}) {
    const wanted = { ...filters, ...more };
    return useInfiniteQuery({
        queryKey: [noun, "list", wanted],
        placeholderData: keepPreviousData,
        initialPageParam: undefined as string | undefined,
        queryFn: ({ pageParam }) => {
            const query = new URLSearchParams();
            for (const [name, value] of Object.entries({ ...wanted, after: pageParam })) {
                if (value !== undefined) query.set(name, value);
            }
            return page<T>(noun, query);
        },
        getNextPageParam: (last) => last.next ?? undefined,
    });
}

/** A field to search by. `/` goes to it, wherever one is. */
function SearchField({ value, change }: { value: string; change: (text: string) => void }) {
    const field = useRef<HTMLInputElement>(null);
    const [typed, setTyped] = useState(value);
    const [known, setKnown] = useState(value);
    if (known !== value) {
        setKnown(value);
        setTyped(value);
    }
    useEffect(() => {
        const to = (event: globalThis.KeyboardEvent) => {
            const typing = event.target instanceof HTMLElement && event.target.closest("input, select, textarea") !== null;
            if (event.key !== "/" || typing) return;
            event.preventDefault();
            field.current?.focus();
        };
        window.addEventListener("keydown", to);
        return () => {
            window.removeEventListener("keydown", to);
        };
    }, []);
    // The address follows when somebody stops typing.
    useEffect(() => {
        if (typed === value) return;
        const wait = setTimeout(() => {
            change(typed);
        }, 250);
        return () => {
            clearTimeout(wait);
        };
    });
    return (
        <label className="col-span-2 grid gap-1">
            Search
            <input
                ref={field}
                type="search"
                value={typed}
                title="The key / leads here"
                onChange={(event) => {
                    setTyped(event.target.value);
                }}
                className={`${FIELD} w-full sm:w-44`}
            />
        </label>
    );
}

/** What one filter is called, its word in the address, and what it can be. */
export type FilterChoice = [label: string, name: string, choices: [value: string, shown: string][]];

export function FilterBar({
    filters,
    change,
    choices,
}: {
    filters: Filters;
    change: (name: string, value: string | undefined) => void;
    choices: FilterChoice[];
}) {
    return (
        <search className="mb-3 grid grid-cols-2 items-start gap-3 text-sm sm:flex sm:flex-wrap">
            <SearchField
                value={filters["search"] ?? ""}
                change={(text) => {
                    change("search", text);
                }}
            />
            {choices.map(([label, name, values]) => (
                <label key={name} className="grid min-w-0 gap-1">
                    {label}
                    <select
                        value={filters[name] ?? ""}
                        onChange={(event) => {
                            change(name, event.target.value);
                        }}
                        className={`${FIELD} w-full sm:w-32`}
                    >
                        <option value="">any</option>
                        {values.map(([value, shown]) => (
                            <option key={value} value={value}>
                                {shown}
                            </option>
                        ))}
                    </select>
                </label>
            ))}
        </search>
    );
}

/** A column: what it is called, and the word that the list is sorted by, where it can be. A name that begins with # is a number. */
export type Column = [name: string, sort?: string];

/** Up and down go from row to row. */
function move(event: KeyboardEvent<HTMLElement>) {
    if (event.key !== "ArrowDown" && event.key !== "ArrowUp") return;
    const links = [...event.currentTarget.querySelectorAll<HTMLElement>("tbody tr td:first-child a")];
    const at = links.indexOf(document.activeElement as HTMLElement);
    if (at < 0) return;
    event.preventDefault();
    links[event.key === "ArrowDown" ? at + 1 : at - 1]?.focus();
}

export function ListTable<T>({
    list,
    noun,
    columns,
    row,
    filters,
    change,
    empty,
}: {
    list: ReturnType<typeof useList<T>>;
    noun: string;
    columns: Column[];
    row: (item: T) => ReactNode;
    filters: Filters;
    change: (name: string, value: string | undefined) => void;
    empty: ReactNode;
}) {
    const rows = list.data?.pages.flatMap((page) => page.items) ?? [];
    const total = list.data?.pages[0]?.total ?? 0;
    const filtered = Object.entries(filters).some(([name, value]) => value !== undefined && name !== "sort" && name !== "descending");
    if (list.data === undefined) return <Failure error={list.error} />;
    if (total === 0) return <Empty>{filtered ? `No ${noun} is like that. Search for something else.` : empty}</Empty>;
    const sorted = filters["sort"] ?? columns.find(([, sort]) => sort !== undefined)?.[1];
    const descending = filters["descending"] === "true";
    return (
        <>
            <Failure error={list.error} />
            <div className={TALL} onKeyDown={move}>
                <table className={TABLE}>
                    <thead className="sticky top-0 z-10 bg-sheet">
                        <tr className="text-left text-faded">
                            {columns.map(([name, sort]) => (
                                <th
                                    key={name}
                                    scope="col"
                                    aria-sort={sort === undefined || sort !== sorted ? undefined : descending ? "descending" : "ascending"}
                                    className={name.startsWith("#") ? "text-right" : ""}
                                >
                                    {sort === undefined ? (
                                        name.replace("#", "")
                                    ) : (
                                        <button
                                            type="button"
                                            className="cursor-pointer font-semibold whitespace-nowrap hover:text-blueprint"
                                            onClick={() => {
                                                if (sort !== sorted) {
                                                    change("sort", sort);
                                                } else {
                                                    change("descending", descending ? undefined : "true");
                                                }
                                            }}
                                        >
                                            {name.replace("#", "")}
                                            <span aria-hidden className="inline-block w-3 text-center">
                                                {sort !== sorted ? "" : descending ? "↓" : "↑"}
                                            </span>
                                        </button>
                                    )}
                                </th>
                            ))}
                        </tr>
                    </thead>
                    <tbody>{rows.map(row)}</tbody>
                </table>
            </div>
            <div className="mt-2 flex min-h-9 items-center gap-3 text-sm text-faded">
                <span role="status">
                    {rows.length === total ? `${String(total)} in all` : `${String(rows.length)} of ${String(total)}`}
                </span>
                {list.hasNextPage && (
                    <Button
                        disabled={list.isFetchingNextPage}
                        onClick={() => {
                            void list.fetchNextPage();
                        }}
                    >
                        Show more
                    </Button>
                )}
            </div>
        </>
    );
}
