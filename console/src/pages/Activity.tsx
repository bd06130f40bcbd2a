// Activity: jobs that run and ran, and everything else that happened.
import { useInfiniteQuery, useQuery } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";

import { type Job, get } from "../api/client";
import { isOver } from "../api/live";
import { JobView } from "../parts/JobView";
import { When } from "../parts/text";
import { Amount, Button, Empty, Failure, Page, Sheet, State, Table } from "../parts/ui";

export function Activity() {
    const jobs = useInfiniteQuery({
        queryKey: ["jobs", "list"],
        initialPageParam: undefined as number | undefined,
        queryFn: ({ pageParam }) => get(pageParam === undefined ? "jobs" : `jobs?before=${String(pageParam)}`),
        getNextPageParam: (page) => page.next ?? undefined,
    });
    const events = useQuery({ queryKey: ["history"], queryFn: () => get("activity") });
    const all = (jobs.data?.pages ?? []).flatMap((page) => page.items);
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
            {jobs.hasNextPage && (
                <Button
                    className="mt-3"
                    disabled={jobs.isFetchingNextPage}
                    onClick={() => {
                        void jobs.fetchNextPage();
                    }}
                >
                    Older jobs
                </Button>
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
