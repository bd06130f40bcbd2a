// A bench's computer: every disk, why it is offered as a card or not, and which places are slots.
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";

import { type BenchDisk, type SlotBinding, get, put } from "../api/client";
import { Size } from "./text";
import { Amount, Button, FIELD, Failure, Notice, Sheet, Table } from "./ui";

export function Readers({ bench }: { bench?: string }) {
    const [open, setOpen] = useState(false);
    return (
        <details
            className="mt-6"
            onToggle={(event) => {
                setOpen(event.currentTarget.open);
            }}
        >
            <summary className="cursor-pointer text-sm font-semibold text-blueprint">Readers and slots of {bench === undefined ? "this computer" : `bench ${bench}`}</summary>
            {open && <Disks at={bench} />}
        </details>
    );
}

function Disks({ at }: { at: string | undefined }) {
    const queries = useQueryClient();
    const key = ["bench", at ?? ""];
    const query = at === undefined ? "" : (`?bench=${encodeURIComponent(at)}` as const);
    const bench = useQuery({ queryKey: key, queryFn: () => get(`bench${query}`), refetchInterval: 2000 });
    const bind = useMutation({
        mutationFn: (slots: SlotBinding[]) => put(`bench/slots${query}`, slots),
        onSuccess: (fresh) => {
            queries.setQueryData(key, fresh);
        },
    });
    const data = bench.data;
    if (data === undefined) return <Failure error={bench.error} />;
    const free = (number: number) => !data.slots.some((slot) => slot.number === number);
    const next = Array.from({ length: 99 }, (_, at) => at + 1).find(free) ?? 1;
    return (
        <div className="mt-3 grid gap-4">
            {data.trouble != null && <Notice tone="oxide">No place is a slot now: {data.trouble}</Notice>}
            <Failure error={bind.error} />
            {data.proposal.length > 0 && (
                <Notice tone="ochre">
                    {data.proposal.length === 1 ? "A reader is" : `${String(data.proposal.length)} places for cards are`} no slot yet.{" "}
                    <Button
                        disabled={bind.isPending}
                        onClick={() => {
                            bind.mutate([...data.slots, ...data.proposal]);
                        }}
                    >
                        Make {data.proposal.length === 1 ? "it a slot" : "all of them slots"}
                    </Button>
                </Notice>
            )}
            <Table head={["disk", "kind", "model", "#size", "port", "offered", ""]}>
                {data.disks.map((disk) => (
                    <tr key={disk.node}>
                        <td className="font-mono">{disk.node}</td>
                        <td>{disk.kind}</td>
                        <td>{disk.model ?? "-"}</td>
                        <Amount>{disk.size === 0 ? "empty" : <Size bytes={disk.size} />}</Amount>
                        <td className="font-mono text-xs">{disk.port == null ? "-" : `${disk.port}, unit ${String(disk.unit ?? 0)}`}</td>
                        <td className={disk.offered ? "text-moss" : "text-faded"}>{disk.why}</td>
                        <td>
                            <Bind
                                disk={disk}
                                next={next}
                                disabled={bind.isPending}
                                set={(number) => {
                                    const others = data.slots.filter((slot) => slot.port !== disk.port || slot.unit !== disk.unit);
                                    const own =
                                        number === undefined || disk.port == null
                                            ? []
                                            : [{ number, port: disk.port, unit: disk.unit ?? 0, note: disk.model }];
                                    bind.mutate([...others, ...own]);
                                }}
                            />
                        </td>
                    </tr>
                ))}
            </Table>
            {data.slots.length > 0 && (
                <Sheet title="How the service gets at them">
                    <p className="mb-2 text-sm text-faded">
                        A service that does not run as root needs this rule; it also keeps desktops from mounting what is put in.
                    </p>
                    <pre className="overflow-auto bg-paper p-3 font-mono text-xs">{data.rule}</pre>
                </Sheet>
            )}
        </div>
    );
}

/** Makes a place a slot, or lets it be none. */
function Bind({
    disk,
    next,
    disabled,
    set,
}: {
    disk: BenchDisk;
    next: number;
    disabled: boolean;
    set: (number: number | undefined) => void;
}) {
    if (disk.port == null || (disk.in_use != null && disk.slot == null)) return null;
    if (disk.slot != null) {
        return (
            <Button
                disabled={disabled}
                onClick={() => {
                    set(undefined);
                }}
            >
                No slot any more
            </Button>
        );
    }
    return (
        <form
            className="flex gap-2"
            onSubmit={(event: FormEvent<HTMLFormElement>) => {
                event.preventDefault();
                set(Number(new FormData(event.currentTarget).get("number")));
            }}
        >
            <input name="number" type="number" min={1} max={999} defaultValue={next} aria-label="Number of the slot" className={`${FIELD} w-16`} />
            <Button type="submit" disabled={disabled}>
                Make it a slot
            </Button>
        </form>
    );
}
