// The vault: what it holds, what sharing and packing save, how it grew, what was found when it was looked at.
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";

import { type VaultLook, type VaultSize, get, post, requestKey } from "../api/client";
import { isOver, useJob } from "../api/live";
import { JobView } from "../parts/JobView";
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

const WIDE = 640;
const TALL = 170;
const LEFT = 64;
const LOW = 22;

/** What it takes and what it stands for, day by day. */
function Growth({ sizes }: { sizes: VaultSize[] }) {
    if (sizes.length === 0) return <p className="text-sm text-faded">Not known yet: it is noted each time the vault is tidied.</p>;
    const most = Math.max(...sizes.flatMap((one) => [one.stored, one.content]), 1);
    const day = (one: VaultSize) => new Date(one.day).getTime();
    const first = Math.min(...sizes.map(day));
    const last = Math.max(...sizes.map(day));
    const x = (one: VaultSize) => LEFT + (last === first ? (WIDE - LEFT - 8) / 2 : ((WIDE - LEFT - 8) * (day(one) - first)) / (last - first));
    const y = (bytes: number) => TALL - LOW - ((TALL - LOW - 10) * bytes) / most;
    const line = (of: (one: VaultSize) => number) => sizes.map((one) => `${x(one).toFixed(1)},${y(of(one)).toFixed(1)}`).join(" ");
    const lines: [string, string, (one: VaultSize) => number][] = [
        ["contents", "var(--color-ochre)", (one) => one.content],
        ["what it takes", "var(--color-blueprint)", (one) => one.stored],
    ];
    return (
        <figure className="grid gap-1">
            <svg viewBox={`0 0 ${String(WIDE)} ${String(TALL)}`} className="w-full max-w-2xl" role="img" aria-label="Growth of the vault">
                {[0, 0.5, 1].map((part) => (
                    <g key={part}>
                        <line x1={LEFT} x2={WIDE - 8} y1={y(most * part)} y2={y(most * part)} stroke="var(--color-line)" />
                        <text x={LEFT - 6} y={y(most * part) + 4} textAnchor="end" fontSize="11" fill="var(--color-faded)">
                            {part === 0 ? "0" : size(most * part)}
                        </text>
                    </g>
                ))}
                <text x={LEFT} y={TALL - 6} fontSize="11" fill="var(--color-faded)">
                    {sizes[0]?.day}
                </text>
                {last !== first && (
                    <text x={WIDE - 8} y={TALL - 6} textAnchor="end" fontSize="11" fill="var(--color-faded)">
                        {sizes.at(-1)?.day}
                    </text>
                )}
                {lines.map(([name, color, of]) => (
                    <g key={name}>
                        <polyline fill="none" stroke={color} strokeWidth="1.8" points={line(of)} />
                        {sizes.length < 40 && sizes.map((one) => <circle key={one.day} cx={x(one)} cy={y(of(one))} r="2.6" fill={color} />)}
                    </g>
                ))}
            </svg>
            <figcaption className="flex flex-wrap gap-x-4 text-xs text-faded">
                {lines.map(([name, color]) => (
                    <span key={name} className="inline-flex items-center gap-1.5">
                        <span aria-hidden className="inline-block h-0.5 w-5" style={{ background: color }} />
                        {name}
                    </span>
                ))}
            </figcaption>
        </figure>
    );
}
