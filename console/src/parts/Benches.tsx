// Benches on other computers: who they are, whether each is connected, and how another one becomes one.
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";

import { type BenchCode, type FarBench, get, post, remove } from "../api/client";
import { useMe } from "../api/live";
import { Readers } from "./Readers";
import { Twice } from "./Twice";
import { Size, When } from "./text";
import { Amount, Button, FIELD, Failure, Notice, State, Table } from "./ui";

export const useBenches = () => useQuery({ queryKey: ["benches"], queryFn: () => get("benches"), refetchInterval: 5000 });

/** How a computer becomes the bench that a code was made for. */
function Enrol({ made }: { made: BenchCode }) {
    const code = made.code;
    return (
        <Notice tone="moss">
            <p>
                On the computer whose readers shall be bench <b>{made.name}</b>, before <When at={made.until} />:
            </p>
            <code className="my-1 block font-mono break-all">
                duplicarium-bench enrol --service {window.location.origin} --code {code}
            </code>
            <p>Then start it: <code className="font-mono">duplicarium-bench run</code>. The code is good once, and is not shown again.</p>
        </Notice>
    );
}

export function Benches() {
    const benches = useBenches();
    const owner = useMe().data?.role === "owner";
    const [open, setOpen] = useState(false);
    if ((benches.data?.length ?? 0) === 0 && !owner) return null;
    return (
        <details
            className="mt-3"
            onToggle={(event) => {
                setOpen(event.currentTarget.open);
            }}
        >
            <summary className="cursor-pointer text-sm font-semibold text-blueprint">Benches on other computers</summary>
            {open && <List all={benches.data ?? []} owner={owner} />}
        </details>
    );
}

function List({ all, owner }: { all: FarBench[]; owner: boolean }) {
    const queries = useQueryClient();
    const again = () => void queries.invalidateQueries({ queryKey: ["benches"] });
    const add = useMutation({ mutationFn: (name: string) => post("benches", { name }), onSuccess: again });
    const renew = useMutation({ mutationFn: (name: string) => post(`benches/${encodeURIComponent(name)}/code`, {}) });
    const leave = useMutation({ mutationFn: (name: string) => remove(`benches/${encodeURIComponent(name)}`), onSuccess: again });
    const made = renew.data ?? add.data;
    const submit = (event: FormEvent<HTMLFormElement>) => {
        event.preventDefault();
        const name = new FormData(event.currentTarget).get("name");
        if (typeof name === "string" && name.trim() !== "") {
            renew.reset();
            add.mutate(name.trim());
        }
    };
    return (
        <div className="mt-3 grid gap-4">
            <Failure error={add.error ?? renew.error ?? leave.error} />
            {made !== undefined && <Enrol made={made} />}
            {all.length > 0 && (
                <Table head={["bench", "state", "#slots", "seen", "version", "#sent to it", "#come from it", ""]}>
                    {all.map((bench) => (
                        <tr key={bench.name}>
                            <td className="font-mono">{bench.name}</td>
                            <td>
                                <State name={bench.state} />
                            </td>
                            <Amount>{bench.slots ?? "-"}</Amount>
                            <td>{bench.seen_at == null ? "never" : <When at={bench.seen_at} />}</td>
                            <td>{bench.version ?? "-"}</td>
                            <Amount><Size bytes={bench.sent} /></Amount>
                            <Amount><Size bytes={bench.received} /></Amount>
                            <td className="whitespace-nowrap">
                                {owner && (
                                    <>
                                        <Button
                                            disabled={renew.isPending}
                                            onClick={() => {
                                                renew.mutate(bench.name);
                                            }}
                                        >
                                            New code
                                        </Button>{" "}
                                        <Twice
                                            label="Remove…"
                                            sure={`Remove ${bench.name} for good`}
                                            disabled={leave.isPending}
                                            act={() => {
                                                leave.mutate(bench.name);
                                            }}
                                        />
                                    </>
                                )}
                            </td>
                        </tr>
                    ))}
                </Table>
            )}
            {owner && (
                <form className="flex flex-wrap items-end gap-2" onSubmit={submit}>
                    <label className="grid gap-1 text-sm">
                        Another computer with card readers
                        <input name="name" required maxLength={15} pattern="[a-z]([a-z0-9\-]*[a-z0-9])?" placeholder="loft" className={`${FIELD} w-44`} />
                    </label>
                    <Button type="submit" disabled={add.isPending}>Make a code for it</Button>
                </form>
            )}
            {all
                .filter((bench) => bench.state === "connected")
                .map((bench) => (
                    <Readers key={bench.name} bench={bench.name} />
                ))}
        </div>
    );
}
