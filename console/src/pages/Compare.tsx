// What changed from one release to another.
import { useQuery } from "@tanstack/react-query";
import { useNavigate, useParams } from "@tanstack/react-router";

import { type Comparison, type Job, Refusal, type Release, get, post, requestKey } from "../api/client";
import { JobView } from "../parts/JobView";
import { Size } from "../parts/text";
import { Amount, FIELD, Failure, Page, Sheet, State, Table } from "../parts/ui";

export function Compare() {
    const { a = "", b = "" } = useParams({ strict: false });
    const go = useNavigate();
    const releases = useQuery({ queryKey: ["releases"], queryFn: () => get<Release[]>("releases") });
    const path = `comparison?a=${encodeURIComponent(a)}&b=${encodeURIComponent(b)}`;
    const comparison = useQuery({
        queryKey: ["comparison", a, b],
        queryFn: () => get<Comparison>(path),
        enabled: a !== "" && b !== "",
        staleTime: Infinity,
        retry: false,
    });
    const unknown = comparison.error instanceof Refusal && comparison.error.problem.code === "not-compared";
    const choose = (which: "a" | "b", value: string) => (
        <select
            aria-label={which === "a" ? "from" : "to"}
            value={value}
            onChange={(event) => {
                void go({ to: "/compare/$a/$b", params: { a, b, [which]: event.target.value } });
            }}
            className={FIELD}
        >
            {(releases.data ?? []).map((release) => (
                <option key={release.name}>{release.name}</option>
            ))}
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
            {unknown ? <Comparing key={`${a} ${b}`} a={a} b={b} /> : <Failure error={comparison.error} />}
            {data !== undefined && (
                <>
                    <Sheet title="Release sheet">
                        <Differences list={data.sheet} a={data.a} b={data.b} />
                    </Sheet>
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
                                        <td className="font-mono text-xs break-all">{file.path}</td>
                                        <Amount>{file.a_len == null ? "-" : <Size bytes={file.a_len} />}</Amount>
                                        <Amount>{file.b_len == null ? "-" : <Size bytes={file.b_len} />}</Amount>
                                    </tr>
                                ))}
                            </Table>
                        )}
                    </Sheet>
                </>
            )}
        </Page>
    );
}

/** Both images are read once; the end of the job lets the page ask again. */
function Comparing({ a, b }: { a: string; b: string }) {
    const started = useQuery({
        queryKey: ["progress", "comparison", a, b],
        queryFn: () => post<Job>("comparison", { a, b }, requestKey()),
        staleTime: Infinity,
        retry: false,
    });
    return (
        <Sheet>
            <Failure error={started.error} />
            {started.data !== undefined && <JobView id={started.data.id} />}
        </Sheet>
    );
}

function Differences({ list, a, b }: { list: Comparison["sheet"]; a: string; b: string }) {
    if (list.length === 0) return <p className="text-sm text-faded">The same in both.</p>;
    return (
        <Table head={["", a, b]}>
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
