// A round under way: what each slot waits for, how far it is, what can be made of it.
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";

import { type RoundDetail, type RoundSlot, get, post } from "../api/client";
import { Bar, Button, Failure, Notice, State } from "./ui";

const OPEN = ["running", "trial", "paused"];

export const isOpen = (state: string) => OPEN.includes(state);

/** One round, read again while cards come and go. */
export function useRound(id: number | undefined) {
    return useQuery({
        queryKey: ["rounds", id],
        queryFn: () => get(`rounds/${String(id)}`),
        enabled: id !== undefined,
        refetchInterval: (query) => (isOpen(query.state.data?.round.state ?? "") ? 1000 : false),
    });
}

/** The round that is not over, if there is one. */
export function useRoundUnderWay() {
    const rounds = useQuery({ queryKey: ["rounds", "list"], queryFn: () => get("rounds") });
    const open = (rounds.data?.items ?? []).filter((round) => isOpen(round.state));
    const now = open.find((round) => round.state !== "paused") ?? open[0];
    const detail = useRound(now?.id);
    return now === undefined ? undefined : detail.data;
}

/** What the round wants done at a slot. */
export function AtSlot({ at }: { at: RoundSlot }) {
    if (at.words === "") return null;
    if (at.kind === "pull") return <Notice tone="moss">{sentence(at.words)}</Notice>;
    if (at.kind === "failed" || at.kind === "other") return <Notice tone="ochre">{sentence(at.words)}</Notice>;
    return <p className="text-sm">{sentence(at.words)}</p>;
}

export const sentence = (words: string) => `${words.charAt(0).toUpperCase()}${words.slice(1)}.`;

/** Pause, go on, accept, end. */
export function Turns({ detail }: { detail: RoundDetail }) {
    const queries = useQueryClient();
    const { id, state } = detail.round;
    const turn = useMutation({
        mutationFn: (word: string) => post(`rounds/${String(id)}/turn`, { turn: word }),
        onSuccess: async (fresh) => {
            queries.setQueryData(["rounds", id], fresh);
            await queries.invalidateQueries({ queryKey: ["rounds"] });
        },
    });
    const button = (word: string, text: string, look: "main" | "plain" = "plain") => (
        <Button
            look={look}
            disabled={turn.isPending}
            onClick={() => {
                turn.mutate(word);
            }}
        >
            {text}
        </Button>
    );
    return (
        <div className="grid gap-2">
            <div className="flex flex-wrap gap-2">
                {state === "trial" && button("accept", "The first card does its job: make the others", "main")}
                {state === "paused" && button("go-on", "Go on", "main")}
                {(state === "running" || state === "trial") && button("pause", "Pause")}
                {isOpen(state) && button("stop", "End the round")}
            </div>
            <Failure error={turn.error} />
        </div>
    );
}

/** The round under way, first on the first page. */
export function RoundBanner({ detail }: { detail: RoundDetail }) {
    const { round } = detail;
    return (
        <section aria-label="The round under way" className="mb-5 grid gap-3 rounded-sm border border-blueprint bg-sheet p-4">
            <div className="flex flex-wrap items-baseline gap-x-4 gap-y-1">
                <h2 className="font-semibold">
                    <Link to="/rounds/$id" params={{ id: String(round.id) }} className="text-blueprint underline">
                        Round {round.id}: {round.title}
                    </Link>
                </h2>
                <State name={round.state} />
                {round.why != null && <span className="text-sm">{round.why}</span>}
                <span className="ml-auto text-sm">
                    {round.done} of {round.cards} made
                </span>
                <Link to="/large" className="text-sm font-semibold text-blueprint underline">
                    Large view
                </Link>
            </div>
            <Bar done={round.done} total={round.cards} />
            <Turns detail={detail} />
        </section>
    );
}
