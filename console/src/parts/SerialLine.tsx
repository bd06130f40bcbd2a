// What a board says on a serial line of the service's computer, while it starts.
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { type FormEvent, useEffect, useRef } from "react";

import { Refusal, get, put, remove } from "../api/client";
import { Button, FIELD, Failure, Notice, Sheet } from "./ui";

const SPEEDS = [9600, 19200, 38400, 57600, 115200, 230400, 460800, 921600];

async function heard(arrival: number) {
    try {
        return await get(`arrivals/${String(arrival)}/serial`);
    } catch (error) {
        if (error instanceof Refusal && error.problem.status === 404) return null;
        throw error;
    }
}

export function SerialLine({ arrival, open }: { arrival: number; open: boolean }) {
    const queries = useQueryClient();
    const key = ["serial", arrival];
    const ports = useQuery({ queryKey: ["serial-ports"], queryFn: () => get("serial-ports") });
    const log = useQuery({
        queryKey: key,
        queryFn: () => heard(arrival),
        refetchInterval: (query) => (query.state.data?.listening === true ? 1000 : false),
    });
    const listen = useMutation({
        mutationFn: (wanted: { port: string; baud: number }) => put(`arrivals/${String(arrival)}/serial`, wanted),
        onSuccess: (fresh) => {
            queries.setQueryData(key, fresh);
        },
    });
    const hangUp = useMutation({
        mutationFn: () => remove(`arrivals/${String(arrival)}/serial`),
        onSuccess: () => queries.invalidateQueries({ queryKey: key }),
    });
    const text = log.data?.text;
    const end = useRef<HTMLPreElement>(null);
    useEffect(() => {
        if (end.current !== null) end.current.scrollTop = end.current.scrollHeight;
    }, [text]);
    const named = ports.data ?? [];
    if (log.data == null && (!open || named.length === 0)) return null;
    const listening = log.data?.listening === true;
    return (
        <Sheet title="On its serial line">
            {open && !listening && named.length > 0 && (
                <form
                    className="mb-3 flex flex-wrap items-end gap-3 text-sm"
                    onSubmit={(event: FormEvent<HTMLFormElement>) => {
                        event.preventDefault();
                        const given = new FormData(event.currentTarget);
                        const port = given.get("port");
                        if (typeof port === "string") listen.mutate({ port, baud: Number(given.get("baud")) });
                    }}
                >
                    <label className="grid gap-1">
                        Port
                        <select name="port" className={FIELD}>
                            {named.map((one) => (
                                <option key={one.port} value={one.port}>
                                    {one.port}
                                    {one.there ? "" : ", not plugged in"}
                                </option>
                            ))}
                        </select>
                    </label>
                    <label className="grid gap-1">
                        Baud
                        <select name="baud" defaultValue={115200} className={FIELD}>
                            {SPEEDS.map((speed) => (
                                <option key={speed}>{speed}</option>
                            ))}
                        </select>
                    </label>
                    <Button type="submit" disabled={listen.isPending}>
                        Listen
                    </Button>
                </form>
            )}
            {(log.data?.found ?? []).map((one, place) => (
                <div key={`${String(place)} ${one.line}`} className="mb-1">
                    <Notice tone={one.good ? "moss" : "oxide"}>
                        {one.means}: <span className="font-mono">{one.line}</span>
                    </Notice>
                </div>
            ))}
            {log.data != null && (
                <pre
                    ref={end}
                    tabIndex={0}
                    aria-label="What it said"
                    className="mb-2 max-h-72 overflow-auto rounded-sm border border-line bg-paper p-2 font-mono text-xs whitespace-pre-wrap"
                >
                    {text === "" ? "nothing yet" : text}
                </pre>
            )}
            {log.data?.problem != null && <Notice tone="ochre">{log.data.problem}</Notice>}
            {listening && (
                <Button
                    disabled={hangUp.isPending}
                    onClick={() => {
                        hangUp.mutate();
                    }}
                >
                    Listen no more
                </Button>
            )}
            <Failure error={listen.error ?? hangUp.error ?? log.error} />
        </Sheet>
    );
}
