// One stream of server-sent events for the whole console. Recorded events make lists be read
// again; slots and progress carry their state themselves.
import { type QueryClient, useQuery } from "@tanstack/react-query";

import { type Backup, type Job, type Progress, type Slot, get } from "./client";

/** Listens until told to stop. A page that the browser puts aside lets go of its stream: it takes
 * one of the few connections that all pages share. */
export function listen(queries: QueryClient): () => void {
    let stream = open(queries);
    const aside = () => {
        stream.close();
    };
    const back = (event: PageTransitionEvent) => {
        if (!event.persisted) return;
        stream = open(queries);
        void queries.invalidateQueries();
    };
    window.addEventListener("pagehide", aside);
    window.addEventListener("pageshow", back);
    return () => {
        window.removeEventListener("pagehide", aside);
        window.removeEventListener("pageshow", back);
        stream.close();
    };
}

function open(queries: QueryClient): EventSource {
    const stream = new EventSource("/api/v1/events");
    stream.addEventListener("slots", (message: MessageEvent<string>) => {
        queries.setQueryData(["slots"], JSON.parse(message.data) as Slot[]);
    });
    stream.addEventListener("progress", (message: MessageEvent<string>) => {
        const progress = JSON.parse(message.data) as Progress;
        queries.setQueryData(["progress", progress.job], progress);
    });
    stream.addEventListener("event", () => {
        void queries.invalidateQueries({ predicate: (query) => query.queryKey[0] !== "progress" });
    });
    stream.addEventListener("open", () => {
        queries.setQueryData(["connected"], true);
    });
    stream.addEventListener("error", () => {
        queries.setQueryData(["connected"], false);
    });
    return stream;
}

/** Whether the stream is up; `undefined` before the first answer. */
export function useConnected(): boolean | undefined {
    return useQuery<boolean>({ queryKey: ["connected"], enabled: false, queryFn: () => true }).data;
}

export const useSlots = () => useQuery({ queryKey: ["slots"], queryFn: () => get<Slot[]>("slots") });

export const useBackups = () => useQuery({ queryKey: ["backups"], queryFn: () => get<Backup[]>("backups") });

/** A job; its end arrives as an event, its progress over the stream. */
export function useJob(id: number) {
    const job = useQuery({
        queryKey: ["jobs", id],
        queryFn: () => get<Job>(`jobs/${String(id)}`),
        refetchInterval: (query) => (isOver(query.state.data) ? false : 2000),
    }).data;
    const live = useQuery<Progress>({ queryKey: ["progress", id], enabled: false, queryFn: () => get("") }).data;
    return { job, progress: isOver(job) ? undefined : (live ?? job?.progress ?? undefined) };
}

export function isOver(job: Job | undefined): boolean {
    return job !== undefined && job.state !== "waiting" && job.state !== "running";
}
