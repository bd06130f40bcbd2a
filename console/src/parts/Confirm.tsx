// A plan is confirmed by the label on the card's sticker, which no habit types, and by accepting each of its
// cautions.
import { useMutation } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";

import { type Caution, type Job, post, requestKey } from "../api/client";
import { Button, FIELD, Notice } from "./ui";

/** A plan that is asked for, and what is said to it: the job that it becomes. */
export function usePlan<Wanted, Planned>(ask: (wanted: Wanted) => Promise<Planned>) {
    const plan = useMutation({ mutationFn: ask });
    const confirm = useMutation({
        mutationFn: ({ id, card, accept }: { id: string; card: string; accept: string[] }): Promise<Job> =>
            post(`plans/${id}/confirm`, { card, accept }, requestKey()),
        // A label that is not this card's voids the plan.
        onError: () => {
            plan.reset();
        },
    });
    /** Forgets both, since something else is wanted now. */
    const reset = () => {
        plan.reset();
        confirm.reset();
    };
    const show = (wanted: Wanted) => {
        confirm.reset();
        plan.mutate(wanted);
    };
    return { plan, confirm, show, reset };
}

/** What would be lost, what to be careful about, what else is worth knowing. */
export function Losses({ lost, notes }: { lost: string[]; notes: string[] }) {
    return (
        <>
            {lost.length === 0 ? (
                <Notice tone="moss">Nothing is lost.</Notice>
            ) : (
                lost.map((one) => (
                    <Notice key={one} tone="oxide">
                        <span className="font-semibold">Lost:</span> {one}
                    </Notice>
                ))
            )}
            {notes.map((note) => (
                <p key={note} className="text-sm text-faded">
                    {note}
                </p>
            ))}
        </>
    );
}

/** Each caution with a box of its own; several of one name are accepted with one. */
export function Accept({ cautions, accepted, change }: { cautions: Caution[]; accepted: string[]; change: (names: string[]) => void }) {
    const names = [...new Set(cautions.map((caution) => caution.name))];
    if (names.length === 0) return null;
    return (
        <fieldset className="grid gap-2 border-l-4 border-ochre bg-paper px-3 py-2 text-sm">
            <legend className="float-left w-full font-semibold text-ochre">Accept each of these to go on</legend>
            {names.map((name) => (
                <label key={name} className="grid grid-cols-[1.4rem_minmax(0,1fr)] items-baseline">
                    <input
                        type="checkbox"
                        checked={accepted.includes(name)}
                        onChange={(event) => {
                            change(event.target.checked ? [...accepted, name] : accepted.filter((one) => one !== name));
                        }}
                    />
                    <span>
                        <span className="font-mono font-semibold">{name}</span>
                        {cautions
                            .filter((caution) => caution.name === name)
                            .map((caution) => (
                                <span key={caution.words} className="block [overflow-wrap:anywhere]">
                                    {caution.words}
                                </span>
                            ))}
                    </span>
                </label>
            ))}
        </fieldset>
    );
}

/** Something to type that no habit types, and the cautions. */
function ConfirmBy({
    label,
    placeholder,
    word,
    cautions,
    disabled,
    confirm,
}: {
    label: string;
    placeholder: string;
    word: string;
    cautions: Caution[];
    disabled: boolean;
    confirm: (typed: string, accept: string[]) => void;
}) {
    const [typed, setTyped] = useState("");
    const [accepted, setAccepted] = useState<string[]>([]);
    const open = cautions.some((caution) => !accepted.includes(caution.name));
    return (
        <form
            className="grid gap-3"
            onSubmit={(event: FormEvent) => {
                event.preventDefault();
                confirm(typed.trim(), accepted);
            }}
        >
            <Accept cautions={cautions} accepted={accepted} change={setAccepted} />
            <div className="flex flex-wrap items-end gap-3">
                <label className="grid gap-1 text-sm">
                    {label}
                    <input
                        value={typed}
                        autoComplete="off"
                        placeholder={placeholder}
                        onChange={(event) => {
                            setTyped(event.target.value);
                        }}
                        className={`${FIELD} w-40 font-mono`}
                    />
                </label>
                <Button type="submit" look="danger" disabled={typed.trim() === "" || open || disabled}>
                    {word}
                </Button>
            </div>
        </form>
    );
}

export function ConfirmByLabel(props: {
    word: string;
    cautions: Caution[];
    disabled: boolean;
    confirm: (label: string, accept: string[]) => void;
}) {
    return <ConfirmBy label="Label on the card's sticker" placeholder="C-0000" {...props} />;
}

export function ConfirmByNumber({
    confirm,
    ...props
}: {
    word: string;
    cautions: Caution[];
    disabled: boolean;
    confirm: (cards: number, accept: string[]) => void;
}) {
    return (
        <ConfirmBy
            label="How many cards are made"
            placeholder="0"
            {...props}
            confirm={(typed, accept) => {
                confirm(Number(typed), accept);
            }}
        />
    );
}
