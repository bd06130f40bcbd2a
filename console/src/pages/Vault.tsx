// The vault: what it holds, what sharing and packing save, how it grew, what was found when it was looked at.
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";

import { type VaultLook, type VaultSize, get, post, requestKey } from "../api/client";
import { isOver, useJob } from "../api/live";
import { JobView } from "../parts/JobView";
import { type Line, Plot, halves } from "../parts/Plot";
import { Size, When, size } from "../parts/text";
import { Amount, Button, Facts, Failure, Page, Sheet, State, Table } from "../parts/ui";

const WHAT: Record<string, string> = { inspect: "Inspected", tidy: "Tidied", copy: "Copied to the second", records: "Records kept" };

export function Vault() {
    const vault = useQuery({ queryKey: ["vault"], queryFn: () => get("vault") });
    const data = vault.data;
    const saves = data === undefined || data.content === 0 ? 0 : Math.max(0, 1 - data.stored / data.content);
    return (
        <Page title="The vault">
            <Failure error={vault.error} />
            {data !== undefined && (
                <>
                    <Sheet>
                        <p className="mb-3 text-3xl font-semibold tabular-nums">
                            {size(data.stored)} <span className="text-base font-normal text-faded">for {size(data.content)} of contents</span>
                        </p>
                        <div
                            className="mb-4 h-3 overflow-hidden rounded-sm bg-line"
                            role="img"
                            aria-label={`Sharing and packing save ${String(Math.round(saves * 100))} per cent`}
                        >
                            <div className="h-full bg-blueprint" style={{ width: `${String(Math.min(100, (1 - saves) * 100))}%` }} />
                        </div>
                        <Facts
                            rows={[
                                ["saved", `${String(Math.round(saves * 100))} %, by sharing and packing`],
                                ["lies in", <span key="place" className="font-mono [overflow-wrap:anywhere]">{data.place}</span>],
                                ["second", data.second == null ? "none; say where one lies with second_vault" : <span key="second" className="font-mono [overflow-wrap:anywhere]">{data.second}</span>],
                                ["key", <span key="key" className="font-mono">{data.key}</span>],
                                ...(data.free == null ? [] : ([["free there", <Size key="free" bytes={data.free} />]] as [string, React.ReactNode][])),
                                ["by itself", data.hours == null ? "never looked after" : `looked after every ${String(Math.round(data.hours * 10) / 10)} hours`],
                            ]}
                        />
                    </Sheet>
                    <Sheet title="When it was looked at">
                        <Looks looks={data.looks} second={data.second != null} />
                    </Sheet>
                    <Sheet title="How it grew">
                        <Growth sizes={data.sizes} />
                    </Sheet>
                    <Sheet title="What lies in it">
                        <Table head={["", "#pieces", "#packed"]}>
                            {data.pieces.map((one) => (
                                <tr key={one.kind}>
                                    <td>{one.kind}</td>
                                    <Amount>{one.count.toLocaleString("en")}</Amount>
                                    <Amount>
                                        <Size bytes={one.bytes} />
                                    </Amount>
                                </tr>
                            ))}
                        </Table>
                    </Sheet>
                </>
            )}
        </Page>
    );
}

type Start = "inspections" | "tidyings" | "copies" | "records";

function Looks({ looks, second }: { looks: VaultLook[]; second: boolean }) {
    const queries = useQueryClient();
    const [job, setJob] = useState<number>();
    const start = useMutation({
        mutationFn: (what: Start) => {
            switch (what) {
                case "inspections":
                    return post("vault/inspections", {}, requestKey());
                case "tidyings":
                    return post("vault/tidyings", { seal_anew: false }, requestKey());
                case "copies":
                    return post("vault/copies", {}, requestKey());
                case "records":
                    return post("vault/records", {}, requestKey());
            }
        },
        onSuccess: (started) => {
            setJob(started.id);
        },
    });
    const actions: [Start, string][] = [
        ["inspections", "Inspect all of it"],
        ["tidyings", "Tidy it"],
        ["records", "Keep the records in it"],
    ];
    if (second) actions.push(["copies", "Copy it to the second"]);
    return (
        <div className="grid gap-3">
            {looks.length === 0 && <p className="text-sm text-faded">Nobody has looked at it yet.</p>}
            <ul className="grid gap-3 text-sm">
                {looks.map((look) => (
                    <li key={look.what} className="grid gap-1">
                        <span className="inline-flex flex-wrap items-center gap-x-3">
                            <span className="font-semibold">{WHAT[look.what] ?? look.what}</span>
                            <State name={look.bad ? "damaged" : look.what === "inspect" ? "whole" : "done"} />
                            <When at={look.at} />
                        </span>
                        {look.words.map((words) => (
                            <span key={words} className={look.bad ? "" : "text-faded"}>
                                {words}
                            </span>
                        ))}
                    </li>
                ))}
            </ul>
            {job !== undefined && (
                <Running
                    key={job}
                    id={job}
                    over={() => {
                        void queries.invalidateQueries({ queryKey: ["vault"] });
                    }}
                />
            )}
            <div className="flex flex-wrap gap-3">
                {actions.map(([what, label]) => (
                    <Button
                        key={what}
                        disabled={start.isPending}
                        onClick={() => {
                            start.mutate(what);
                        }}
                    >
                        {label}
                    </Button>
                ))}
            </div>
            <Failure error={start.error} />
        </div>
    );
}

/** A job at the vault; what it found is read when it is over. */
function Running({ id, over }: { id: number; over: () => void }) {
    const { job } = useJob(id);
    const [told, setTold] = useState(false);
    if (isOver(job) && !told) {
        setTold(true);
        over();
    }
    return <JobView id={id} compact />;
}

/** What it takes and what it stands for, day by day. */
function Growth({ sizes }: { sizes: VaultSize[] }) {
    if (sizes.length === 0) return <p className="text-sm text-faded">Not known yet: it is noted each time the vault is tidied.</p>;
    const most = Math.max(...sizes.flatMap((one) => [one.stored, one.content]), 1);
    const line = (name: string, color: string, of: (one: VaultSize) => number): Line => ({
        name,
        color,
        words: name,
        dots: sizes.length < 40,
        points: sizes.map((one) => [new Date(one.day).getTime(), of(one)]),
    });
    return (
        <Plot
            label="Growth of the vault"
            levels={halves(most, size)}
            ends={[sizes[0]?.day, sizes.at(-1)?.day]}
            lines={[line("contents", "var(--color-ochre)", (one) => one.content), line("what it takes", "var(--color-blueprint)", (one) => one.stored)]}
        />
    );
}
