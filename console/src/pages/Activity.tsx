// Activity: jobs that run and ran, and everything else that happened.
import { useQuery } from "@tanstack/react-query";

import { type Events, type Job, type Jobs, get } from "../api/client";
import { isOver } from "../api/live";
import { JobView } from "../parts/JobView";
import { When } from "../parts/text";
import { Amount, Empty, Failure, Page, Sheet, State, Table } from "../parts/ui";

export function Activity() {
    const jobs = useQuery({ queryKey: ["jobs"], queryFn: () => get<Jobs>("jobs") });
    const events = useQuery({ queryKey: ["history"], queryFn: () => get<Events>("history") });
    const all = jobs.data?.items ?? [];
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
            <h2 className="mt-6 mb-2 font-semibold">History</h2>
            <Table head={["when", "who", "what"]}>
                {(events.data?.items ?? []).map((event) => (
                    <tr key={event.id}>
                        <td className="whitespace-nowrap">
                            <When at={event.at} />
                        </td>
                        <td>{event.operator}</td>
                        <td>{event.summary}</td>
                    </tr>
                ))}
            </Table>
        </Page>
    );
}

function JobTable({ jobs }: { jobs: Job[] }) {
    return (
        <Table head={["#job", "kind", "state", "about", "by", "started"]}>
            {jobs.map((job) => (
                <tr key={job.id}>
                    <Amount>{job.id}</Amount>
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
