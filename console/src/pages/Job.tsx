// One job and its report: what it was about, how it went on, what came of it.
import { Link, useParams } from "@tanstack/react-router";
import type { ReactNode } from "react";

import { isOver, useJob } from "../api/live";
import { JobView } from "../parts/JobView";
import { SpeedPlot } from "../parts/SpeedPlot";
import { When, span } from "../parts/text";
import { Facts, Label, Page, Sheet, State } from "../parts/ui";
import { slotWords } from "../parts/slot";

export function Job() {
    const { id } = useParams({ strict: false }) as { id: string };
    const { job } = useJob(Number(id));
    if (job === undefined) return <Page title={`Job ${id}`}>{null}</Page>;
    const seconds = (from: string | null | undefined, to: string | null | undefined) =>
        from == null || to == null ? undefined : (new Date(to).getTime() - new Date(from).getTime()) / 1000;
    const waited = seconds(job.created_at, job.started_at);
    const took = seconds(job.started_at, job.finished_at);
    const rows: [string, ReactNode][] = [
        ["state", <State key="state" name={job.state} />],
        ["about", job.subject],
        ...(job.card == null
            ? []
            : [
                  [
                      "card",
                      <Link key="card" to="/cards/$label" params={{ label: job.card }} className="text-blueprint underline">
                          <Label>{job.card}</Label>
                      </Link>,
                  ] as [string, ReactNode],
              ]),
        ...(job.slot == null ? [] : [["slot", `${slotWords(job.slot)}${job.reader == null ? "" : `, ${job.reader}, unit ${String(job.unit ?? 0)}`}`] as [string, ReactNode]]),
        ["by", job.operator],
        ["asked for", <When key="asked" at={job.created_at} />],
        ...(waited !== undefined && waited >= 1 ? [["waited", `${span(waited)} for its turn`] as [string, ReactNode]] : []),
        ...(took === undefined ? [] : [["took", span(took)] as [string, ReactNode]]),
        ...(job.error_code == null ? [] : [["kind of failure", <code key="code">{job.error_code}</code>] as [string, ReactNode]]),
    ];
    return (
        <Page
            title={`Job ${id}: ${job.kind}`}
            aside={
                <Link to="/activity" className="text-sm font-semibold text-blueprint underline">
                    All jobs
                </Link>
            }
        >
            <Sheet>
                <Facts rows={rows} />
            </Sheet>
            <Sheet title={isOver(job) ? "What came of it" : "How far it is"}>
                <JobView id={job.id} compact />
            </Sheet>
            {(job.speeds ?? []).length > 0 && (
                <Sheet title="Speed along the card">
                    <SpeedPlot speeds={job.speeds ?? []} />
                </Sheet>
            )}
        </Page>
    );
}
