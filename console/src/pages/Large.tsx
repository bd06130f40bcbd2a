// The bench as it is read from two metres: what each slot waits for, in large letters, with a tone on wish.
import { Link } from "@tanstack/react-router";
import { useEffect, useRef, useState } from "react";

import type { RoundSlot, Slot } from "../api/client";
import { useJob, useSlots } from "../api/live";
import { Turns, sentence, useRoundUnderWay } from "../parts/RoundView";
import { span } from "../parts/text";
import { Bar, Button } from "../parts/ui";
import { slotWords } from "../parts/slot";

const LOOK: Record<string, string> = {
    "put-in": "border-dashed border-line",
    pull: "border-moss",
    failed: "border-oxide",
    other: "border-ochre",
    "at-work": "border-blueprint",
    rest: "border-line",
};
const WORD: Record<string, string> = {
    "put-in": "○ Put in",
    pull: "✓ Pull",
    failed: "✕ Failed",
    other: "! Not this one",
    "at-work": "▸ Leave in",
    rest: "",
};

/** What a slot says where no round is under way. */
function alone(slot: Slot): RoundSlot {
    const card = slot.card;
    const label = card?.label ?? null;
    const at = { slot: slot.name, card: label, device: card?.device ?? null, job: slot.job ?? null };
    if (slot.job != null) return { ...at, kind: "at-work", words: `${label ?? "the card"} is being worked on`, hand: false };
    if (slot.failed != null) return { ...at, kind: "failed", words: "the last job here failed; look at it on the bench", hand: true };
    if (card == null) return { ...at, kind: "rest", words: "empty", hand: false };
    if (card.twin != null) return { ...at, kind: "other", words: `slot ${slotWords(card.twin)} says the same label; pull one`, hand: true };
    return { ...at, kind: "rest", words: card.base ?? card.summary, hand: false };
}

export function Large() {
    const slots = useSlots();
    const round = useRoundUnderWay();
    const shown = (slots.data ?? []).map((slot) => round?.slots.find((at) => at.slot === slot.name) ?? alone(slot));
    const [tone, setTone] = useState(false);
    useTone(
        tone,
        [...shown.filter((at) => at.hand && at.kind !== "put-in").map((at) => `${slotWords(at.slot)} ${at.kind}`), ...(round?.round.state === "running" ? [] : [round?.round.state ?? ""])].filter((one) => one !== ""),
    );
    useEffect(() => {
        document.title = "Bench, large · Duplicarium";
    }, []);
    const next = round?.entries.find((entry) => entry.state === "waiting");
    return (
        <main className="grid gap-4 px-4 py-4 sm:px-8">
            <header className="flex flex-wrap items-baseline gap-x-6 gap-y-2">
                <h1 className="text-3xl font-semibold">
                    {round === undefined ? "Bench" : `${round.round.title}: ${String(round.round.done)} of ${String(round.round.cards)}`}
                </h1>
                {round !== undefined && round.round.state !== "running" && (
                    <span role="alert" className="text-2xl font-semibold text-ochre">
                        {round.round.state}
                        {round.round.why != null && `: ${round.round.why}`}
                    </span>
                )}
                {next !== undefined && round?.round.state === "running" && (
                    <span className="text-2xl">
                        next <span className="font-semibold">{next.device ?? next.base}</span>
                    </span>
                )}
                <span className="ml-auto flex items-baseline gap-4">
                    <Button
                        aria-pressed={tone}
                        onClick={() => {
                            setTone(!tone);
                        }}
                    >
                        {tone ? "Tone is on" : "Tone when a hand is needed"}
                    </Button>
                    <Link to="/" className="text-sm font-semibold text-blueprint underline">
                        Back to the bench
                    </Link>
                </span>
            </header>
            {round !== undefined && <Bar done={round.round.done} total={round.round.cards} />}
            {round !== undefined && round.round.state !== "running" && <Turns detail={round} />}
            <div className="grid gap-4 [grid-template-columns:repeat(auto-fit,minmax(17rem,1fr))]">
                {shown.map((at) => (
                    <Place key={at.slot} at={at} />
                ))}
            </div>
        </main>
    );
}

function Place({ at }: { at: RoundSlot }) {
    return (
        <section aria-label={`Slot ${slotWords(at.slot)}`} className={`grid min-h-64 content-start gap-3 rounded-sm border-4 bg-sheet p-5 ${LOOK[at.kind] ?? ""}`}>
            <div className="flex items-baseline justify-between gap-4">
                <span className="text-6xl font-semibold">{slotWords(at.slot)}</span>
                <span className="text-3xl font-semibold">{WORD[at.kind] ?? ""}</span>
            </div>
            <div className="font-mono text-5xl font-semibold tracking-tight">{at.card ?? " "}</div>
            {at.device != null && <div className="text-4xl font-semibold [overflow-wrap:anywhere]">→ {at.device}</div>}
            {at.kind === "at-work" && at.job != null ? (
                <Progress job={at.job} />
            ) : (
                <p className="text-xl [overflow-wrap:anywhere]">{at.words === "" ? "" : sentence(at.words)}</p>
            )}
        </section>
    );
}

function Progress({ job }: { job: number }) {
    const { progress } = useJob(job);
    const percent = progress !== undefined && progress.total > 0 ? Math.floor((100 * progress.done) / progress.total) : 0;
    return (
        <div className="grid gap-2 text-2xl">
            <div className="flex justify-between">
                <span>{progress?.stage ?? "waiting"}</span>
                <span>
                    {percent} %{progress?.seconds_left != null && `, ${span(progress.seconds_left)}`}
                </span>
            </div>
            <Bar done={progress?.done ?? 0} total={progress?.total ?? 0} />
        </div>
    );
}

/** Two short tones whenever something new needs a hand. */
function useTone(on: boolean, needs: string[]) {
    const known = useRef<string[]>([]);
    const now = needs.join("|");
    useEffect(() => {
        const fresh = now.split("|").filter((one) => one !== "" && !known.current.includes(one));
        known.current = now.split("|");
        if (!on || fresh.length === 0) return;
        const sound = new AudioContext();
        [660, 880].forEach((pitch, at) => {
            const voice = sound.createOscillator();
            const loud = sound.createGain();
            loud.gain.value = 0.15;
            voice.frequency.value = pitch;
            voice.connect(loud).connect(sound.destination);
            voice.start(sound.currentTime + at * 0.22);
            voice.stop(sound.currentTime + at * 0.22 + 0.16);
        });
        const wait = setTimeout(() => void sound.close(), 1500);
        return () => {
            clearTimeout(wait);
            void sound.close();
        };
    }, [on, now]);
}
