// Activity: jobs that run and ran, and everything else that happened.
import { Link } from "@tanstack/react-router";

import { type Job, get } from "../api/client";
import { isOver } from "../api/live";
import { JobView } from "../parts/JobView";
import { Older, useOlder } from "../parts/Older";
import { When } from "../parts/text";
import { Amount, Empty, Failure, Page, Sheet, State, Table } from "../parts/ui";

export function Activity() {
    const { list: jobs, items: all } = useOlder(["jobs"], (before) => get(before === undefined ? "jobs" : `jobs?before=${String(before)}`));
    const { list: events, items: happened } = useOlder(["history"], (before) => get(before === undefined ? "activity" : `activity?before=${String(before)}`));
    const running = all.filter((job) => !isOver(job));
    return (
        <Page title="Activity">
            <Failure error={jobs.error ?? events.error} />
            {running.map((job) => (
                <Sheet key={job.id} title={`Job ${String(job.id)}`}>
                    <JobView id={job.id} />
                </Sheet>
            ))}
            <h2 className="mb-2 font-semibold">Jobs</h2>
            {jobs.data !== undefined && all.length === 0 ? (
                <Empty>No job yet. Imports, writes, restores and backups appear here.</Empty>
            ) : (
                <JobTable jobs={all} />
            )}
            <Older list={jobs} word="Older jobs" />
            <h2 className="mt-6 mb-2 font-semibold">What happened</h2>
            <Table head={["when", "who", "what"]}>
                {happened.map((event) => (
                    <tr key={event.id}>
                        <td className="whitespace-nowrap">
                            <When at={event.at} />
                        </td>
                        <td>{event.operator}</td>
                        <td>{event.summary}</td>
                    </tr>
                ))}
            </Table>
            <Older list={events} word="What happened before" />
        </Page>
    );
}

function JobTable({ jobs }: { jobs: Job[] }) {
    return (
        <Table head={["#job", "kind", "state", "about", "by", "started"]}>
            {jobs.map((job) => (
                <tr key={job.id}>
                    <Amount>
                        <Link to="/jobs/$id" params={{ id: String(job.id) }} className="text-blueprint underline">
                            {job.id}
                        </Link>
                    </Amount>
                    <td>{job.kind}</td>
                    <td>
                        <State name={job.state} />
                    </td>
                    <td>
                        {job.subject}
                        {job.error != null && <div className="text-faded">{job.error}</div>}
                    </td>
                    <td>{job.operator}</td>
                    <td className="whitespace-nowrap">
                        <When at={job.created_at} />
                    </td>
                </tr>
            ))}
        </Table>
    );
}
