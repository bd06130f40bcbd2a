// A job as it goes on: stage, per cent, rate, time left, cancel, and how it ended.
import { useMutation } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";

import { type Drift, type Job, type Progress, post } from "../api/client";
import { isOver, useJob } from "../api/live";
import { size, span } from "./text";
import { Bar, Button, Failure, Notice } from "./ui";

const DOING: Record<string, string> = {
    waiting: "Waiting",
    fetching: "Fetching",
    importing: "Importing",
    comparing: "Comparing",
    composing: "Composing the card",
    writing: "Writing",
    verifying: "Verifying",
    reading: "Reading",
    saving: "Keeping what is on it",
    checking: "Checking",
    inspecting: "Reading the vault",
    tidying: "Tidying",
    copying: "Copying",
    "putting back": "Putting back",
    finishing: "Finishing",
};

export function JobView({ id, compact = false }: { id: number; compact?: boolean }) {
    const { job, progress } = useJob(id);
    const cancel = useMutation({ mutationFn: () => post(`jobs/${String(id)}/cancel`, {}) });
    if (job === undefined) return <p className="h-16 text-sm text-faded">…</p>;
    if (isOver(job)) return <Ended job={job} />;
    return (
        <div className="grid gap-2" data-job={id}>
            {!compact && <p className="text-sm">{job.subject}</p>}
            <Stand progress={progress} />
            <div>
                <Button
                    disabled={cancel.isPending || cancel.isSuccess}
                    onClick={() => {
                        cancel.mutate();
                    }}
                >
                    {cancel.isSuccess ? "Stopping…" : "Cancel"}
                </Button>
            </div>
            <Failure error={cancel.error} />
        </div>
    );
}

/** Lines of fixed height, so that nothing jumps while it runs. */
function Stand({ progress }: { progress: Progress | undefined }) {
    const { stage, done, total, rate, seconds_left: left } = progress ?? {
        stage: "waiting",
        done: 0,
        total: 0,
        rate: 0,
        seconds_left: null,
    };
    const percent = total > 0 ? Math.floor((100 * done) / total) : 0;
    return (
        <div className="grid gap-1 text-sm">
            <div className="flex justify-between">
                <span className="font-semibold">{DOING[stage] ?? stage}</span>
                <span>{total > 0 ? `${String(percent)} %` : ""}</span>
            </div>
            <Bar done={done} total={total} />
            <div className="grid h-10 content-start text-faded">
                <span className="whitespace-nowrap">{total > 0 ? `${size(done)} of ${size(total)}` : ""}</span>
                <span className="whitespace-nowrap">
                    {rate > 0 ? `${size(rate)}/s` : ""}
                    {left != null ? `, ${span(left)} left` : ""}
                </span>
            </div>
        </div>
    );
}

function Ended({ job }: { job: Job }) {
    const result = (job.result ?? {}) as Record<string, string | number>;
    if (job.state !== "done") {
        return (
            <Notice tone={job.state === "failed" ? "oxide" : "ochre"}>
                <span className="font-semibold">{job.state}:</span> {job.error}
            </Notice>
        );
    }
    if (job.kind === "import") return <Imported result={job.result as ImportResult} />;
    if (job.kind === "compare") {
        return "imprint" in result ? <Drifted drift={job.result as Drift} /> : <Notice tone="moss">Compared.</Notice>;
    }
    const sentences = job.closing ?? [];
    const bad = result.verdict === "forged" || result.verdict === "bad";
    return (
        <Notice tone={bad ? "oxide" : "moss"}>
            {sentences.map((sentence, at) => (
                <p key={sentence} className={at === sentences.length - 1 ? "font-semibold" : ""}>
                    {sentence}
                </p>
            ))}
        </Notice>
    );
}

/** How a card differs from what was written onto it. */
function Drifted({ drift }: { drift: Drift }) {
    const { counts } = drift;
    const differ = counts.new + counts.gone + counts.changed;
    if (differ === 0 && drift.partitions.length === 0) {
        return (
            <Notice tone="moss">
                Card {drift.card} is as it was written: all {counts.same} files of {drift.base}.
            </Notice>
        );
    }
    return (
        <Notice tone="ochre">
            Since imprint {drift.imprint} on card {drift.card}: {counts.new} files new, {counts.gone} gone, {counts.changed} changed.
            <details className="mt-1">
                <summary className="cursor-pointer text-blueprint underline">Which</summary>
                <ul className="max-h-60 overflow-auto font-mono text-xs">
                    {drift.partitions.map((one) => (
                        <li key={one.what}>
                            {one.what}: {one.a ?? "none"} → {one.b ?? "none"}
                        </li>
                    ))}
                    {drift.files.map((file) => (
                        <li key={`${String(file.partition)}:${file.path}`}>
                            {file.change} {file.partition}:{file.path}
                        </li>
                    ))}
                </ul>
            </details>
        </Notice>
    );
}

interface ImportResult {
    release: string;
    state: string;
    same_as: string[];
}

function Imported({ result }: { result: ImportResult }) {
    const draft = result.state === "draft";
    return (
        <Notice tone={draft ? "ochre" : "moss"}>
            <Link to="/catalogue/$name" params={{ name: result.release }} className="font-semibold text-blueprint underline">
                {result.release}
            </Link>{" "}
            is in the catalogue{draft ? " as a draft; look at what was found, then release it" : ""}.
            {result.same_as.length > 0 && <> Its content is that of {result.same_as.join(", ")}.</>}
        </Notice>
    );
}
