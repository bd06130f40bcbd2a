// The history: who asked what, from where, and whether it is still as it was written.
import { useMutation } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";

import { get, post } from "../api/client";
import { filled } from "../parts/form";
import { Older, useOlder } from "../parts/Older";
import { When } from "../parts/text";
import { Button, Empty, FIELD, Failure, Notice, Page, Table } from "../parts/ui";

const FIELDS = ["who", "search", "since", "until"] as const;
type Asked = Record<(typeof FIELDS)[number], string>;

function queryOf(asked: Asked): URLSearchParams {
    const query = new URLSearchParams();
    for (const name of FIELDS) if (asked[name] !== "") query.set(name, asked[name]);
    return query;
}

export function History() {
    const [asked, setAsked] = useState<Asked>({ who: "", search: "", since: "", until: "" });
    const query = queryOf(asked).toString();
    const read = (before?: number) => get(`history?${query}${before === undefined ? "" : `&before=${String(before)}`}`);
    const { list: acts, items: all } = useOlder(["acts", query], read);
    const check = useMutation({ mutationFn: () => post("history/check", null) });
    return (
        <Page
            title="History"
            aside={
                <>
                    <a className="text-sm text-blueprint underline" href={`/api/v1/history/rows?form=csv&${query}`}>
                        CSV
                    </a>
                    <a className="text-sm text-blueprint underline" href={`/api/v1/history/rows?form=jsonl&${query}`}>
                        JSON lines
                    </a>
                    <Button
                        disabled={check.isPending}
                        onClick={() => {
                            check.mutate();
                        }}
                    >
                        Check all of it
                    </Button>
                </>
            }
        >
            <Failure error={acts.error ?? check.error} />
            {check.data !== undefined && (
                <div className="mb-4">
                    {check.data.wrong.length === 0 ? (
                        <Notice tone="moss">All {check.data.rows} rows are as they were written, and none is missing.</Notice>
                    ) : (
                        <Notice tone="oxide">
                            {check.data.wrong.map((words) => (
                                <p key={words}>{words}</p>
                            ))}
                        </Notice>
                    )}
                </div>
            )}
            <form
                className="mb-3 flex flex-wrap items-end gap-3 text-sm"
                onSubmit={(event: FormEvent<HTMLFormElement>) => {
                    event.preventDefault();
                    setAsked(filled(event.currentTarget, FIELDS));
                }}
            >
                <label className="grid gap-1">
                    Who
                    <input name="who" className={FIELD} />
                </label>
                <label className="grid gap-1">
                    With these letters
                    <input name="search" placeholder="C-0042, quay-01, confirmed…" className={FIELD} />
                </label>
                <label className="grid gap-1">
                    Since
                    <input name="since" type="date" className={FIELD} />
                </label>
                <label className="grid gap-1">
                    Before
                    <input name="until" type="date" className={FIELD} />
                </label>
                <Button type="submit">Show</Button>
            </form>
            {acts.data !== undefined && all.length === 0 ? (
                <Empty>Nothing was asked for that fits. What changes something, and every reading of a secret, stands here.</Empty>
            ) : (
                <Table head={["when", "who", "what", "of", "from", "answer"]}>
                    {all.map((act) => (
                        <tr key={act.id}>
                            <td>
                                <When at={act.at} />
                            </td>
                            <td>
                                <span className="font-semibold">{act.who === "" ? "—" : act.who}</span>{" "}
                                <span className="text-faded">{act.role}</span>
                            </td>
                            <td>{act.act}</td>
                            <td className="[overflow-wrap:anywhere]">
                                {act.about === "" ? act.target : act.about} {act.about !== "" && <span className="text-faded">{act.target}</span>}
                            </td>
                            <td className="whitespace-nowrap">
                                {act.origin} <span className="text-faded">{act.how}</span>
                            </td>
                            <td className="whitespace-nowrap">
                                <Answer status={act.status ?? null} />
                            </td>
                        </tr>
                    ))}
                </Table>
            )}
            <Older list={acts} word="Older" />
        </Page>
    );
}

function Answer({ status }: { status: number | null }) {
    if (status === null) return <span className="text-ochre">… none</span>;
    if (status < 300) return <span className="text-moss">✓ done</span>;
    return <span className="text-ochre">✕ refused ({status})</span>;
}
