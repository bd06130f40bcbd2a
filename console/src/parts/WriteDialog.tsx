// From "this card" to a verified card: choose, see the plan, confirm by the label, watch.
import { type ReactNode, useState } from "react";

import {
    type NewPlan,
    type Plan,
    Refusal,
    get,
    post,
} from "../api/client";
import { BenchDialog } from "./BenchDialog";
import { ConfirmByLabel, Losses, usePlan } from "./Confirm";
import { FileView } from "./FileView";
import { Finder, type FoundItem } from "./Finder";
import { JobView } from "./JobView";
import { Size, span } from "./text";
import { Button, FIELD, Facts, Failure, Label, Notice } from "./ui";
import { type SlotName, slotWords } from "./slot";

type Kind = "device" | "release" | "backup";
const KINDS: [Kind, string][] = [
    ["device", "For a device"],
    ["release", "A release, for nobody in particular"],
    ["backup", "Restore a backup"],
];

export function WriteDialog({ slot, disabled }: { slot: SlotName; disabled: boolean }) {
    return (
        <BenchDialog word="Write…" look="main" title={`Write the card in slot ${slotWords(slot)}`} disabled={disabled}>
            <Steps slot={slot} />
        </BenchDialog>
    );
}

function Steps({ slot }: { slot: SlotName }) {
    const [kind, setKind] = useState<Kind>("device");
    const [name, setName] = useState("");
    const [wipe, setWipe] = useState(false);
    const [keepSize, setKeepSize] = useState(false);
    const { plan, confirm, show, reset } = usePlan((wanted: NewPlan) => post("plans", wanted));
    /** The plan for what is chosen, with whatever has to be said beside it. */
    const ask = (more: Partial<NewPlan>) => {
        show({
            slot,
            [kind]: name,
            ...(kind === "backup" && keepSize ? { keep_size: true } : {}),
            ...(wipe ? { wipe_free: true } : {}),
            ...more,
        });
    };
    const refused = plan.error instanceof Refusal ? plan.error.problem.code : undefined;
    if (confirm.data !== undefined) return <JobView id={confirm.data.id} />;
    return (
        <div className="grid gap-4">
            <fieldset className="flex flex-wrap gap-4 text-sm" disabled={plan.isPending}>
                <legend className="sr-only">What to write</legend>
                {KINDS.map(([value, text]) => (
                    <label key={value} className="flex items-center gap-1.5">
                        <input
                            type="radio"
                            name="kind"
                            checked={kind === value}
                            onChange={() => {
                                setKind(value);
                                setName("");
                                reset();
                            }}
                        />
                        {text}
                    </label>
                ))}
            </fieldset>
            <div className="flex flex-wrap items-end gap-3">
                <Choice
                    kind={kind}
                    value={name}
                    choose={(chosen) => {
                        setName(chosen);
                        reset();
                    }}
                />
                <Button
                    look={plan.data === undefined ? "main" : "plain"}
                    disabled={name === "" || plan.isPending}
                    onClick={() => {
                        ask({});
                    }}
                >
                    Show the plan
                </Button>
            </div>
            {kind === "backup" && (
                <label className="flex items-center gap-1.5 text-sm">
                    <input
                        type="checkbox"
                        checked={keepSize}
                        onChange={(event) => {
                            setKeepSize(event.target.checked);
                            reset();
                        }}
                    />
                    leave the last partition as large as it was, also on a larger card
                </label>
            )}
            <label className="flex items-center gap-1.5 text-sm">
                <input
                    type="checkbox"
                    checked={wipe}
                    onChange={(event) => {
                        setWipe(event.target.checked);
                        reset();
                    }}
                />
                wipe what stays free, so that nothing of what was there before can be read
            </label>
            <Failure error={plan.error ?? confirm.error} />
            {refused === "withdrawn" && (
                <AllTheSame
                    word="Reason to write it all the same"
                    go={(reason) => {
                        ask({ override_reason: reason });
                    }}
                />
            )}
            {refused === "damaged" && (
                <AllTheSame
                    word="Reason to change the damaged file system all the same"
                    go={(reason) => {
                        ask({ although_damaged: reason });
                    }}
                />
            )}
            {(refused === "cannot-edit" || refused === "damaged") && (
                <div>
                    <Button
                        onClick={() => {
                            ask({ leave_out: true });
                        }}
                    >
                        Leave that partition as it is and plan the rest
                    </Button>
                </div>
            )}
            {plan.data !== undefined && (
                <>
                    <PlanView plan={plan.data} />
                    <ConfirmByLabel
                        key={plan.data.id}
                        word="Overwrite this card"
                        cautions={plan.data.cautions}
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

/** A plan that is refused for a reason, unless somebody has a better one. */
function AllTheSame({ word, go }: { word: string; go: (reason: string) => void }) {
    return (
        <form
            className="flex items-end gap-3 text-sm"
            onSubmit={(event) => {
                event.preventDefault();
                const reason = new FormData(event.currentTarget).get("reason");
                go(typeof reason === "string" ? reason : "");
            }}
        >
            <label className="grid flex-1 gap-1">
                {word}
                <input name="reason" required className={FIELD} />
            </label>
            <Button type="submit">Show the plan all the same</Button>
        </form>
    );
}

/** Most that are shown while somebody types. */
const FOUND = 20;

async function findOf(kind: Kind, text: string): Promise<FoundItem[]> {
    const query = `search=${encodeURIComponent(text)}&limit=${String(FOUND)}`;
    if (kind === "device") {
        const page = await get(`devices?${query}`);
        return page.items.map((one) => [one.name, `${one.appliance}, ${one.board}, ${one.site}`]);
    }
    if (kind === "backup") {
        const page = await get(`backups?${query}`);
        return page.items.map((one) => [one.name, `of ${one.card}${one.device == null ? "" : `, ${one.device}`}`]);
    }
    const word = text.trim().toLowerCase();
    const releases = (await get("releases")).filter((one) => one.name.toLowerCase().includes(word));
    return releases.slice(0, FOUND).map((one) => [one.name, one.state]);
}

function Choice({ kind, value, choose }: { kind: Kind; value: string; choose: (name: string) => void }) {
    return (
        <Finder
            key={kind}
            label={{ device: "Device", release: "Release", backup: "Backup" }[kind]}
            keyOf={{ device: "devices", release: "releases", backup: "backups" }[kind]}
            value={value}
            choose={choose}
            find={(text) => findOf(kind, text)}
        />
    );
}

function PlanView({ plan }: { plan: Plan }) {
    const rows: [string, ReactNode][] = [
        ["what", `${plan.base}${plan.device != null ? ` for ${plan.device}` : ""}`],
        [
            "card",
            <span key="card">
                <Label>{plan.card}</Label>, <Size bytes={plan.card_size} />
            </span>,
        ],
        ...(plan.size_proven === true
            ? []
            : [["size", "as it reports, not proven: probes are added, which find many forged cards and not all"] as [string, ReactNode]]),
        ["holds now", plan.card_holds],
        ...(plan.seconds == null ? [] : [["takes", `about ${span(plan.seconds)}, as fast as ${plan.seconds_by === "slot" ? "cards in this slot usually are" : "this card was"}`] as [string, ReactNode]]),
        [
            "fit",
            <span key="fit">
                needs <Size bytes={plan.smallest_card} />, writes <Size bytes={plan.to_write} />,{" "}
                <Size bytes={plan.unallocated} /> stay unallocated
            </span>,
        ],
    ];
    return (
        <div className="grid gap-3" data-plan={plan.card}>
            <Facts rows={rows} />
            <Losses lost={plan.lost} notes={plan.notes ?? []} />
            {plan.growth != null && <p className="text-sm text-faded">Growth: {plan.growth}.</p>}
            {(plan.left_out ?? []).map((left) => (
                <Notice key={left} tone="ochre">
                    {left}
                </Notice>
            ))}
            {plan.files.map((file) => (
                <FileView key={file.path} file={file} />
            ))}
        </div>
    );
}
