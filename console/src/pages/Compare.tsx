// What two releases or backups differ in, file by file, and one file of both line by line.
import { useQuery } from "@tanstack/react-query";
import { useNavigate, useParams } from "@tanstack/react-router";
import { useState } from "react";

import { type Comparison, Refusal, get, post, requestKey } from "../api/client";
import { isOver } from "../api/live";
import { JobView } from "../parts/JobView";
import { Size } from "../parts/text";
import { Amount, FIELD, Failure, Page, Sheet, State, Table } from "../parts/ui";

/** What two releases or backups differ in; if nobody asked before, both images are read first, by a job. */
async function compared(a: string, b: string, see: (job: number) => void): Promise<Comparison> {
    const ask = () => get(`comparison?a=${encodeURIComponent(a)}&b=${encodeURIComponent(b)}`);
    try {
        return await ask();
    } catch (cause) {
        if (!(cause instanceof Refusal) || cause.problem.code !== "not-compared") throw cause;
    }
    let job = await post("comparison", { a, b }, requestKey());
    see(job.id);
    while (!isOver(job)) {
        await new Promise((resolve) => setTimeout(resolve, 300));
        job = await get(`jobs/${String(job.id)}`);
    }
    if (job.state !== "done") throw new Error(job.error ?? "The comparison did not end.");
    return ask();
}

export function Compare() {
    const { a = "", b = "" } = useParams({ strict: false });
    const go = useNavigate();
    const releases = useQuery({ queryKey: ["releases"], queryFn: () => get("releases") });
    const backups = useQuery({ queryKey: ["backups", "to compare"], queryFn: () => get("backups?limit=100") });
    const [job, setJob] = useState<number>();
    const [shown, show] = useState<{ partition: number; path: string }>();
    // Its key keeps it out of what recorded events make be read again: it waits for its own job.
    const comparison = useQuery({
        queryKey: ["progress", "comparison", a, b],
        queryFn: () => compared(a, b, setJob),
        enabled: a !== "" && b !== "",
        staleTime: Infinity,
        retry: false,
    });
    const choose = (which: "a" | "b", value: string) => (
        <select
            aria-label={which === "a" ? "from" : "to"}
            value={value}
            onChange={(event) => {
                void go({ to: "/compare/$a/$b", params: { a, b, [which]: event.target.value } });
            }}
            className={FIELD}
        >
            <optgroup label="Releases">
                {(releases.data ?? []).map((release) => (
                    <option key={release.name}>{release.name}</option>
                ))}
            </optgroup>
            <optgroup label="Backups">
                {(backups.data?.items ?? []).map((backup) => (
                    <option key={backup.name}>{backup.name}</option>
                ))}
            </optgroup>
        </select>
    );
    const data = comparison.data;
    return (
        <Page
            title="What changed"
            aside={
                <span className="flex items-center gap-2 text-sm">
                    from {choose("a", a)} to {choose("b", b)}
                </span>
            }
        >
            <Failure error={comparison.error} />
            {comparison.isFetching && job !== undefined && (
                <Sheet>
                    <JobView id={job} />
                </Sheet>
            )}
            {data !== undefined && (
                <>
                    {data.sheet.length > 0 && (
                        <Sheet title="Release sheet">
                            <Differences list={data.sheet} a={data.a} b={data.b} />
                        </Sheet>
                    )}
                    <Sheet title="Disk">
                        <Differences list={data.partitions} a={data.a} b={data.b} />
                    </Sheet>
                    <Sheet
                        title={`Files: ${String(data.counts.new)} new, ${String(data.counts.gone)} gone, ${String(data.counts.changed)} changed, ${String(data.counts.same)} the same`}
                    >
                        {data.files.length > 0 && (
                            <Table head={["change", "#partition", "path", "#was", "#is"]}>
                                {data.files.map((file) => (
                                    <tr key={`${String(file.partition)}:${file.path}`}>
                                        <td>
                                            <State name={file.change} />
                                        </td>
                                        <Amount>{file.partition}</Amount>
                                        <td className="font-mono text-xs break-all">
                                            {["content", "new", "gone"].includes(file.change) ? (
                                                <button
                                                    type="button"
                                                    title="Line by line"
                                                    className="cursor-pointer text-left text-blueprint underline"
                                                    onClick={() => {
                                                        show({ partition: file.partition, path: file.path });
                                                    }}
                                                >
                                                    {file.path}
                                                </button>
                                            ) : (
                                                file.path
                                            )}
                                            {file.expected === true && <span className="font-sans text-faded"> differs on each card</span>}
                                        </td>
                                        <Amount>{file.a_len == null ? "-" : <Size bytes={file.a_len} />}</Amount>
                                        <Amount>{file.b_len == null ? "-" : <Size bytes={file.b_len} />}</Amount>
                                    </tr>
                                ))}
                            </Table>
                        )}
                    </Sheet>
                    {shown !== undefined && <Lines key={shown.path} a={a} b={b} {...shown} />}
                </>
            )}
        </Page>
    );
}

/** Lines beside a change that are shown with it. */
const BESIDE = 2;

const MARKS: Record<string, [string, string]> = {
    added: ["+", "text-moss"],
    removed: ["−", "text-oxide"],
};

function Lines({ a, b, partition, path }: { a: string; b: string; partition: number; path: string }) {
    const asked = `a=${encodeURIComponent(a)}&b=${encodeURIComponent(b)}&partition=${String(partition)}&path=${encodeURIComponent(path)}`;
    const found = useQuery({ queryKey: ["comparison", "file", asked], queryFn: () => get(`comparison/file?${asked}`) });
    const lines = found.data?.lines ?? [];
    const near = (at: number) => lines.slice(Math.max(0, at - BESIDE), at + BESIDE + 1).some((line) => line.change !== "same");
    return (
        <Sheet title={`${path}, line by line`}>
            <Failure error={found.error} />
            {found.data?.why_not != null && <p className="text-sm text-faded">Not compared: {found.data.why_not}.</p>}
            {lines.length > 0 && (
                <pre className="overflow-x-auto font-mono text-xs leading-5">
                    {lines.map((line, at) => {
                        if (!near(at)) return at > 0 && near(at - 1) ? <div key={at} className="text-faded">  ⋯</div> : null;
                        const [mark, tone] = MARKS[line.change] ?? [" ", ""];
                        return (
                            <div key={at} className={tone}>
                                {mark} {line.text}
                            </div>
                        );
                    })}
                </pre>
            )}
        </Sheet>
    );
}

function Differences({ list, a, b }: { list: Comparison["sheet"]; a: string; b: string }) {
    if (list.length === 0) return <p className="text-sm text-faded">The same in both.</p>;
    return (
        <Table head={["what", a, b]}>
            {list.map((one) => (
                <tr key={one.what} className="align-top">
                    <td className="text-faded">{one.what}</td>
                    <td className="max-w-80 break-words whitespace-pre-wrap">{one.a ?? "-"}</td>
                    <td className="max-w-80 break-words whitespace-pre-wrap">{one.b ?? "-"}</td>
                </tr>
            ))}
        </Table>
    );
}
