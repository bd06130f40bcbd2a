// Who is told when something needs a person, and what was told.
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import type { FormEvent } from "react";

import { get, post, remove } from "../api/client";
import { filled } from "./form";
import { When } from "./text";
import { Button, FIELD, Failure, Notice, Sheet, State, Table } from "./ui";

export function Notices({ owner }: { owner: boolean }) {
    const queries = useQueryClient();
    const again = () => Promise.all([queries.invalidateQueries({ queryKey: ["notice-ways"] }), queries.invalidateQueries({ queryKey: ["notices"] })]);
    const ways = useQuery({ queryKey: ["notice-ways"], queryFn: () => get("notice-ways") });
    const told = useQuery({ queryKey: ["notices"], queryFn: () => get("notices"), refetchInterval: 10_000 });
    const leave = useMutation({ mutationFn: (name: string) => remove(`notice-ways/${encodeURIComponent(name)}`), onSuccess: again });
    const trial = useMutation({ mutationFn: (name: string) => post(`notice-ways/${encodeURIComponent(name)}/try`, null) });
    return (
        <Sheet title="Notices">
            <p className="mb-2 text-sm text-faded">
                Whoever is named here is told, once, when a job fails, a device is down or overdue for a backup, a card is mistrusted, room is short or the
                vault is damaged.
            </p>
            <Failure error={ways.error ?? leave.error ?? trial.error} />
            {trial.isSuccess && <Notice tone="moss">{trial.variables} was told that this is a trial; look whether it arrived.</Notice>}
            {(ways.data?.length ?? 0) > 0 && (
                <Table head={["way", "by", "to", "about", ""]}>
                    {ways.data?.map((way) => (
                        <tr key={way.name}>
                            <td>{way.name}</td>
                            <td>
                                {way.kind}
                                {way.signed ? ", signed" : ""}
                            </td>
                            <td className="break-all">{way.target}</td>
                            <td>{way.about.length === 0 ? "everything" : way.about.join(", ")}</td>
                            <td className="whitespace-nowrap">
                                {owner && (
                                    <>
                                        <Button
                                            disabled={trial.isPending}
                                            onClick={() => {
                                                trial.mutate(way.name);
                                            }}
                                        >
                                            Try
                                        </Button>{" "}
                                        <Button
                                            disabled={leave.isPending}
                                            onClick={() => {
                                                leave.mutate(way.name);
                                            }}
                                        >
                                            Remove
                                        </Button>
                                    </>
                                )}
                            </td>
                        </tr>
                    ))}
                </Table>
            )}
            {owner && <NewWay done={again} />}
            {(told.data?.length ?? 0) > 0 && (
                <details className="mt-3">
                    <summary className="cursor-pointer text-sm font-semibold text-blueprint">What was told lately</summary>
                    <Table head={["way", "state", "told", "what", "trouble"]}>
                        {told.data?.map((one) => (
                            <tr key={one.id}>
                                <td>{one.way}</td>
                                <td>
                                    <State name={one.state} />
                                </td>
                                <td>{one.told_at == null ? "-" : <When at={one.told_at} />}</td>
                                <td>{one.words}</td>
                                <td>{one.trouble ?? "-"}</td>
                            </tr>
                        ))}
                    </Table>
                </details>
            )}
        </Sheet>
    );
}

function NewWay({ done }: { done: () => unknown }) {
    const matters = useQuery({ queryKey: ["notice-matters"], queryFn: () => get("notice-matters"), staleTime: Infinity });
    const add = useMutation({
        mutationFn: ({ name, to, secret, about }: { name: string; to: string; secret: string; about: string[] }) =>
            post("notice-ways", { name, about, ...(to.includes("://") ? { call: to, ...(secret === "" ? {} : { secret }) } : { mail: to }) }),
        onSuccess: done,
    });
    return (
        <form
            className="mt-3 flex flex-wrap items-end gap-3 text-sm"
            onSubmit={(event: FormEvent<HTMLFormElement>) => {
                event.preventDefault();
                const about = new FormData(event.currentTarget).getAll("about").filter((kind) => typeof kind === "string");
                add.mutate({ ...filled(event.currentTarget, ["name", "to", "secret"]), about });
            }}
        >
            <label className="grid gap-1">
                Tell somebody
                <input name="name" required maxLength={64} placeholder="name" className={`${FIELD} w-32`} />
            </label>
            <label className="grid gap-1">
                by mail, or by a call to an address
                <input name="to" required placeholder="team@… or https://…" className={`${FIELD} w-64`} />
            </label>
            <label className="grid gap-1">
                secret for signing calls
                <input name="secret" type="password" autoComplete="off" placeholder="none" className={`${FIELD} w-44`} />
            </label>
            <Button type="submit" disabled={add.isPending}>
                Add
            </Button>
            <details className="basis-full">
                <summary className="cursor-pointer text-blueprint">Only about some matters</summary>
                <fieldset className="mt-2 grid gap-x-6 gap-y-1 sm:grid-cols-2">
                    <legend className="sr-only">What is told; everything where nothing is chosen</legend>
                    {matters.data?.map((one) => (
                        <label key={one.kind} className="flex items-baseline gap-2">
                            <input type="checkbox" name="about" value={one.kind} />
                            {one.when}
                        </label>
                    ))}
                </fieldset>
            </details>
            <Failure error={add.error} />
        </form>
    );
}
