// Settings handed to a board on the network that it opens itself: from the phone that has joined it, or from the
// service's own computer.
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { type FormEvent } from "react";

import { Refusal, get, post } from "../api/client";
import { Button, FIELD, Facts, Failure, Sheet } from "./ui";

async function asked(arrival: number) {
    try {
        return await get(`arrivals/${String(arrival)}/first-join`);
    } catch (error) {
        if (error instanceof Refusal && error.problem.code === "no-first-join") return null;
        throw error;
    }
}

/** A form that the browser sends to the board's page: no other way leads from a page to another host's. */
function sendForm(page: string, values: Record<string, string>) {
    const form = document.createElement("form");
    form.method = "post";
    form.action = page;
    form.target = "_blank";
    for (const [name, value] of Object.entries(values)) {
        const input = document.createElement("input");
        input.type = "hidden";
        input.name = name;
        input.value = value;
        form.append(input);
    }
    document.body.append(form);
    form.submit();
    form.remove();
}

export function FirstJoin({ arrival }: { arrival: number }) {
    const queries = useQueryClient();
    const join = useQuery({ queryKey: ["first-join", arrival], queryFn: () => asked(arrival), refetchInterval: 10_000 });
    const phone = useMutation({
        mutationFn: (page: string) =>
            post(`arrivals/${String(arrival)}/first-join/values`, {}).then((values) => {
                sendForm(page, values);
            }),
    });
    const here = useMutation({
        mutationFn: (given: { at?: string; joins: boolean; network?: string }) =>
            post(`arrivals/${String(arrival)}/first-join`, given),
        onSuccess: (fresh) => {
            queries.setQueryData(["arrivals", arrival], fresh);
        },
    });
    if (join.data == null) return null;
    const { networks, page, json, values, heard, can_join } = join.data;
    return (
        <Sheet title="If it opens a network of its own">
            <div className="grid gap-3 text-sm">
                <p>
                    It appears as <span className="font-mono font-semibold">{networks.join(" or ")}</span>. Whoever has joined it hands these over to{" "}
                    <span className="font-mono">{page}</span>:
                </p>
                <Facts rows={values.map((one) => [one.label, one.value ?? (one.is_set && one.secret ? "••••••••" : "not set")])} />
                {heard?.map((one) => (
                    <p key={one.name} className="text-moss">
                        ✓ <span className="font-mono">{one.name}</span> is heard where the service&rsquo;s computer stands ({one.strength} of 100).
                    </p>
                ))}
                {!json && (
                    <div>
                        <Button
                            disabled={phone.isPending}
                            onClick={() => {
                                phone.mutate(page);
                            }}
                        >
                            Hand over from this phone
                        </Button>
                    </div>
                )}
                <form
                    className="grid gap-3 border-t border-line pt-3"
                    onSubmit={(event: FormEvent<HTMLFormElement>) => {
                        event.preventDefault();
                        const at = new FormData(event.currentTarget).get("at");
                        const by = (event.nativeEvent as SubmitEvent).submitter;
                        const pressed = by instanceof HTMLButtonElement ? by.value : "";
                        const given = typeof at === "string" ? at.trim() : "";
                        here.mutate({
                            joins: pressed !== "",
                            ...(given === "" ? {} : { at: given }),
                            ...(pressed === "" || pressed === "join" ? {} : { network: pressed }),
                        });
                    }}
                >
                    <p>Or the service&rsquo;s computer does it:</p>
                    <div className="flex flex-wrap items-center gap-3">
                        {can_join === true && (heard ?? []).length < 2 && (
                            <Button type="submit" value="join" disabled={here.isPending}>
                                {here.isPending ? "Joining it…" : "Join it, hand over, and come back"}
                            </Button>
                        )}
                        {can_join === true &&
                            (heard ?? []).length > 1 &&
                            heard?.map((one) => (
                                <Button key={one.name} type="submit" value={one.name} disabled={here.isPending}>
                                    Join {one.name}, hand over, and come back
                                </Button>
                            ))}
                        <Button type="submit" disabled={here.isPending}>
                            Hand over, it has joined already
                        </Button>
                    </div>
                    <label className="flex flex-wrap items-center gap-x-3 gap-y-1 text-faded">
                        The board&rsquo;s address and port, if they are others
                        <input name="at" autoComplete="off" className={`${FIELD} w-44 font-mono`} />
                    </label>
                </form>
                {here.isSuccess && <p className="text-moss">✓ It took its settings and goes to its network.</p>}
                <Failure error={phone.error ?? here.error} />
            </div>
        </Sheet>
    );
}
