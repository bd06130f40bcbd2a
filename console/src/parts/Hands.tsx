// What needs a hand, first on the first page: devices that are down.
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import type { FormEvent } from "react";

import { type Outage, get, post } from "../api/client";
import { When } from "./text";
import { Button, FIELD, Failure, Label, Notice } from "./ui";

/** Devices that are down, with what brings them back. */
export function Down() {
    const down = useQuery({ queryKey: ["outages"], queryFn: () => get("outages") });
    if (down.data === undefined || down.data.length === 0) return <Failure error={down.error} />;
    return (
        <section aria-label="Devices that are down" className="mb-5 grid gap-2">
            {down.data.map((outage) => (
                <Outed key={outage.device} outage={outage} />
            ))}
        </section>
    );
}

export function Outed({ outage }: { outage: Outage }) {
    const queries = useQueryClient();
    const back = useMutation({
        mutationFn: (card: string) => post("outages/end", { device: outage.device, card }),
        onSuccess: async (fresh) => {
            queries.setQueryData(["outages"], fresh);
            await queries.invalidateQueries({ queryKey: ["devices"] });
        },
    });
    return (
        <Notice tone="oxide">
            <div className="flex flex-wrap items-center gap-x-4 gap-y-2">
                <span className="text-base">
                    <Link to="/devices/$name" params={{ name: outage.device }} className="font-semibold underline">
                        {outage.device}
                    </Link>{" "}
                    is down since <When at={outage.since} />
                    {outage.reason !== "" && <>: {outage.reason}</>}.{" "}
                    {outage.card != null && (
                        <>
                            Its card <Label>{outage.card}</Label> is held.
                        </>
                    )}
                </span>
                <span className="flex flex-wrap gap-2">
                    <Button
                        disabled={back.isPending}
                        onClick={() => {
                            back.mutate("original");
                        }}
                    >
                        The original is back and works
                    </Button>
                    <Button
                        disabled={back.isPending}
                        onClick={() => {
                            back.mutate("new");
                        }}
                    >
                        A new card works
                    </Button>
                </span>
            </div>
            <Failure error={back.error} />
        </Notice>
    );
}

/** Says of a device that its card is out, or what was seen of it. */
export function InTheField({ device, down }: { device: string; down: boolean }) {
    const queries = useQueryClient();
    const fresh = async () => {
        await queries.invalidateQueries({ queryKey: ["devices"] });
        await queries.invalidateQueries({ queryKey: ["outages"] });
    };
    const out = useMutation({
        mutationFn: (reason: string) => post("outages", { device, reason }),
        onSuccess: fresh,
    });
    const seen = useMutation({
        mutationFn: (symptom: string) => post("faults", { device, symptom }),
        onSuccess: fresh,
    });
    return (
        <form
            className="flex flex-wrap items-end gap-3 text-sm"
            onSubmit={(event: FormEvent<HTMLFormElement>) => {
                event.preventDefault();
                const words = new FormData(event.currentTarget).get("words");
                const submitter = (event.nativeEvent as SubmitEvent).submitter;
                const text = typeof words === "string" ? words : "";
                if (submitter?.getAttribute("value") === "out") out.mutate(text);
                else seen.mutate(text);
            }}
        >
            <label className="grid min-w-0 flex-1 gap-1">
                What was seen, or why its card is out
                <input name="words" maxLength={500} placeholder="two long lamps, refuses to save settings…" className={FIELD} />
            </label>
            {!down && (
                <Button type="submit" value="out" disabled={out.isPending}>
                    Its card was taken out
                </Button>
            )}
            <Button type="submit" value="seen" disabled={seen.isPending}>
                Note the fault
            </Button>
            <Failure error={out.error ?? seen.error} />
            {seen.data !== undefined && (
                <Notice tone="ochre">
                    Noted.{" "}
                    {seen.data.card != null && (
                        <>
                            Card <Label>{seen.data.card}</Label> is mistrusted from now on.{" "}
                        </>
                    )}
                    {seen.data.lamps != null && <>What its lamps mean: {seen.data.lamps}</>}
                </Notice>
            )}
        </form>
    );
}
