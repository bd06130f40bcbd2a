// What needs a hand because of a device in the field, first on the first page.
import { useQuery } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";

import { type Attention as One, get } from "../api/client";
import { When } from "./text";
import { Notice } from "./ui";

const TONES: Record<string, "oxide" | "ochre" | "moss"> = {
    silent: "oxide",
    "card-suspect": "oxide",
    "backup-damaged": "oxide",
    "content-damaged": "oxide",
    "vault-away": "oxide",
    fault: "oxide",
    vault: "oxide",
    "arrival-question": "oxide",
    "arrival-late": "ochre",
    certificate: "ochre",
    "arrival-ready": "moss",
};

/** All but those that are down: what brings them back stands with them. */
export function Attention() {
    const all = useQuery({ queryKey: ["attention"], queryFn: () => get("attention"), refetchInterval: 15_000 });
    const rest = (all.data ?? []).filter((one) => one.kind !== "down");
    if (rest.length === 0) return null;
    return (
        <section aria-label="What needs a hand" className="mb-5 grid gap-2">
            {rest.map((one) => (
                <Hand key={`${one.kind} ${one.device} ${one.since}`} one={one} />
            ))}
        </section>
    );
}

function Hand({ one }: { one: One }) {
    return (
        <Notice tone={TONES[one.kind] ?? "ochre"}>
            {one.arrival != null ? (
                <Link to="/arrivals/$id" params={{ id: String(one.arrival) }} className="font-semibold underline">
                    {one.words}
                </Link>
            ) : one.card != null ? (
                <Link to="/cards/$label" params={{ label: one.card }} className="font-semibold underline">
                    {one.words}
                </Link>
            ) : one.kind === "standing" && one.device === "" ? (
                <Link to="/devices" search={{ standing: "to write" } as never} className="font-semibold underline">
                    {one.words}
                </Link>
            ) : one.device === "" ? (
                <Link to="/vault" className="font-semibold underline">
                    {one.words}
                </Link>
            ) : (
                <Link to="/devices/$name" params={{ name: one.device }} className="font-semibold underline">
                    {one.words}
                </Link>
            )}{" "}
            <span className="text-faded">(<When at={one.since} />)</span>
        </Notice>
    );
}
