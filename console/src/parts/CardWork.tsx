// Work on a card itself: check it, clear it, give it back what a check that was cut off had found.
import { useState } from "react";

import { type CardPlan, post } from "../api/client";
import { BenchDialog } from "./BenchDialog";
import { ConfirmByLabel, Losses, usePlan } from "./Confirm";
import { JobView } from "./JobView";
import { Size, span } from "./text";
import { Button, Facts, Failure, Label } from "./ui";
import { type SlotName, slotWords } from "./slot";

const WORK: [string, string, string][] = [
    ["quick-check", "Check it quickly", "a minute or less; finds most forged cards, gives back what is on it, proves nothing"],
    ["full-check", "Check every byte", "writes and reads all of it; the only check that proves a card, and nothing on it is left"],
    ["clear-tables", "Clear its tables", "nothing is found on it any more; its data could still be read"],
    ["clear-all", "Clear all of it", "every byte reads as zero"],
    ["clear-volume", "Back to ordinary use", "one empty volume that any computer opens"],
];
const PUT_BACK: [string, string, string] = [
    "put-back",
    "Give back what was on it",
    "a check was cut off; what it had found on the card is kept here",
];

export function CardWork({ slot, unfinished, disabled }: { slot: SlotName; unfinished: boolean; disabled: boolean }) {
    return (
        <BenchDialog word="Check or clear…" title={`The card in slot ${slotWords(slot)} itself`} disabled={disabled}>
            <Steps slot={slot} unfinished={unfinished} />
        </BenchDialog>
    );
}

function Steps({ slot, unfinished }: { slot: SlotName; unfinished: boolean }) {
    const [work, setWork] = useState(unfinished ? "put-back" : "quick-check");
    const { plan, confirm, show, reset } = usePlan((wanted: string) => post("card-plans", { slot, work: wanted }));
    if (confirm.data !== undefined) return <JobView id={confirm.data.id} />;
    return (
        <div className="grid gap-4">
            <fieldset className="grid gap-2 text-sm" disabled={plan.isPending}>
                <legend className="sr-only">What to do with it</legend>
                {[...(unfinished ? [PUT_BACK] : []), ...WORK].map(([value, text, more]) => (
                    <label key={value} className="grid grid-cols-[1.2rem_minmax(0,1fr)] items-baseline">
                        <input
                            type="radio"
                            name="work"
                            checked={work === value}
                            onChange={() => {
                                setWork(value);
                                reset();
                            }}
                        />
                        <span>
                            <span className="font-semibold">{text}</span> <span className="text-faded">{more}</span>
                        </span>
                    </label>
                ))}
            </fieldset>
            <div>
                <Button
                    look={plan.data === undefined ? "main" : "plain"}
                    disabled={plan.isPending}
                    onClick={() => {
                        show(work);
                    }}
                >
                    Show the plan
                </Button>
            </div>
            <Failure error={plan.error ?? confirm.error} />
            {plan.data !== undefined && (
                <>
                    <PlanView plan={plan.data} />
                    <ConfirmByLabel
                        key={plan.data.id}
                        cautions={plan.data.cautions}
                        word={plan.data.lost.length > 0 ? "Do it, and lose that" : "Do it"}
                        disabled={confirm.isPending}
                        confirm={(card, accept) => {
                            confirm.mutate({ id: plan.data.id, card, accept });
                        }}
                    />
                </>
            )}
        </div>
    );
}

function PlanView({ plan }: { plan: CardPlan }) {
    return (
        <div className="grid gap-3" data-plan={plan.card}>
            <Facts
                rows={[
                    [
                        "card",
                        <span key="card">
                            <Label>{plan.card}</Label>, <Size bytes={plan.card_size} />
                        </span>,
                    ],
                    ["holds now", plan.card_holds],
                    ["does", plan.does],
                    ["takes", `about ${span(plan.seconds)}`],
                ]}
            />
            <Losses lost={plan.lost} notes={plan.notes ?? []} />
        </div>
    );
}
