// One stream of server-sent events for the whole console. Recorded events make lists be read
// again; slots and progress carry their state themselves.
import { type QueryClient, useQuery } from "@tanstack/react-query";

import { type HistoryEvent, type Job, type Progress, type Slot, get } from "./client";

/** Listens until told to stop. A page that the browser puts aside lets go of its stream: it takes
 * one of the few connections that all pages share. */
export function listen(queries: QueryClient): () => void {
    let again: ReturnType<typeof setTimeout> | undefined;
    let stream = begin();
    // A browser gives up on a stream that is refused: it is asked for again, and everything is read anew, because a new
    // stream does not know what the one before has told last.
    function begin(): EventSource {
        const opened = open(queries);
        opened.addEventListener("error", () => {
            if (opened.readyState !== EventSource.CLOSED || opened !== stream) return;
            clearTimeout(again);
            again = setTimeout(() => {
                stream = begin();
                stream.addEventListener("open", () => void queries.invalidateQueries(), { once: true });
            }, AGAIN);
        });
        return opened;
    }
    const aside = () => {
        clearTimeout(again);
        stream.close();
    };
    const back = (event: PageTransitionEvent) => {
        if (!event.persisted) return;
        stream = begin();
        void queries.invalidateQueries();
    };
    window.addEventListener("pagehide", aside);
    window.addEventListener("pageshow", back);
    return () => {
        window.removeEventListener("pagehide", aside);
        window.removeEventListener("pageshow", back);
        aside();
    };
}

/** Milliseconds after which a stream that was refused is asked for again. */
const AGAIN = 5000;

function open(queries: QueryClient): EventSource {
    const stream = new EventSource("/api/v1/events");
    stream.addEventListener("slots", (message: MessageEvent<string>) => {
        queries.setQueryData(["slots"], JSON.parse(message.data) as Slot[]);
    });
    stream.addEventListener("progress", (message: MessageEvent<string>) => {
        const progress = JSON.parse(message.data) as Progress;
        queries.setQueryData(["progress", progress.job], progress);
    });
    stream.addEventListener("event", (message: MessageEvent<string>) => {
        const touched = touchedBy(JSON.parse(message.data) as HistoryEvent);
        void queries.invalidateQueries({ predicate: (query) => touched(query.queryKey) });
    });
    stream.addEventListener("open", () => {
        queries.setQueryData(["connected"], true);
    });
    stream.addEventListener("error", () => {
        queries.setQueryData(["connected"], false);
    });
    return stream;
}

/** What has to be read again after an event of each kind, beside the history. */
const TOUCHED: Record<string, string[]> = {
    // What a job came to stands with its card, its device and in the catalogue.
    export: ["exports"],
    round: ["rounds"],
    arrival: ["arrivals", "attention", "devices", "outages", "rounds", "cards"],
    job: ["rounds", "jobs", "cards", "devices", "catalogue", "releases", "backups", "comparison"],
    card: ["cards", "devices"],
    bench: ["bench", "benches"],
    slot: ["bench"],
    fault: ["cards", "devices"],
    device: ["devices", "attention", "sightings", "outages", "cards", "presets", "networks", "catalogue", "choices"],
    preset: ["presets", "networks", "devices"],
    release: ["releases", "catalogue", "devices", "choices", "presets", "networks", "feeds"],
    backup: ["backups", "cards"],
    feed: ["feeds"],
    site: ["sites", "devices", "presets"],
    board: ["boards", "devices", "choices", "catalogue"],
    notice: ["notice-ways", "notices"],
    secret: [],
    person: ["people", "passes"],
};

/** Which queries an event makes old: those of its kind; of devices, cards and presets only the one that it names and the lists. */
function touchedBy(event: HistoryEvent): (key: readonly unknown[]) => boolean {
    const kind = event.kind.split(".")[0] ?? "";
    const nouns = TOUCHED[kind];
    const own = `${kind}s`;
    return ([noun, name]) => {
        if (noun === "progress" || noun === "connected" || noun === "slots") return false;
        if (noun === "history" || nouns === undefined) return true;
        if (!nouns.includes(String(noun))) return false;
        // The page of another one of the same kind says nothing of this one.
        const page = typeof name === "string" && name !== "list" && name !== "find";
        return noun !== own || !page || name === event.subject || kind === "preset" || event.kind === "device.table";
    };
}

/** Whether the stream is up; `undefined` before the first answer. */
export function useConnected(): boolean | undefined {
    return useQuery<boolean>({ queryKey: ["connected"], enabled: false, queryFn: () => true }).data;
}

/** Who this browser acts as. */
export const useMe = () => useQuery({ queryKey: ["me"], queryFn: () => get("me"), staleTime: 30_000 });

export const useSlots = () => useQuery({ queryKey: ["slots"], queryFn: () => get("slots") });

/** A job; its end arrives as an event, its progress over the stream. */
export function useJob(id: number) {
    const job = useQuery({
        queryKey: ["jobs", id],
        queryFn: () => get(`jobs/${String(id)}`),
        refetchInterval: (query) => (isOver(query.state.data) ? false : 2000),
    }).data;
    const live = useQuery<Progress>({ queryKey: ["progress", id], enabled: false, queryFn: () => Promise.reject(new Error("it is told")) }).data;
    return { job, progress: isOver(job) ? undefined : (live ?? job?.progress ?? undefined) };
}

export function isOver(job: Job | undefined): boolean {
    return job !== undefined && job.state !== "waiting" && job.state !== "running";
}
