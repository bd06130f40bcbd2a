// The bench: slots as they stand on the table, what is in each, what can be done with it.
import { useMutation, useQuery } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import { type FormEvent, useState } from "react";

import { type CardDetail, Refusal, type RoundSlot, type Slot, get, post, put, requestKey } from "../api/client";
import { useSlots } from "../api/live";
import { BenchDialog } from "../parts/BenchDialog";
import { CardWork } from "../parts/CardWork";
import { Attention } from "../parts/Attention";
import { Benches, useBenches } from "../parts/Benches";
import { Files } from "../parts/Files";
import { Down } from "../parts/Hands";
import { JobView } from "../parts/JobView";
import { Readers } from "../parts/Readers";
import { AtSlot, RoundBanner, useRoundUnderWay } from "../parts/RoundView";
import { mean } from "../parts/speed";
import { Size, When, size, span } from "../parts/text";
import { Button, Empty, FIELD, Failure, Label, Notice, Page, State } from "../parts/ui";
import { WriteDialog } from "../parts/WriteDialog";
import { type SlotName, slotPath, slotWords } from "../parts/slot";

export function Bench() {
    const slots = useSlots();
    const round = useRoundUnderWay();
    const benches = useBenches();
    return (
        <Page
            title="Bench"
            aside={
                <>
                    <Link to="/rounds" className="text-sm font-semibold text-blueprint underline">
                        Rounds
                    </Link>
                    <Link to="/large" className="text-sm font-semibold text-blueprint underline">
                        Large view
                    </Link>
                </>
            }
        >
            <Failure error={slots.error} />
            {round !== undefined && <RoundBanner detail={round} />}
            <Down />
            <Attention />
            {slots.data?.length === 0 && (
                <Empty>
                    There is no slot yet. Plug a card reader in and make it a slot below; or start the stand-in with{" "}
                    <code className="font-mono">duplicarium-standin serve --dir FOLDER</code> and give its address to the
                    service with <code className="font-mono">--standin</code>.
                </Empty>
            )}
            <Table slots={(slots.data ?? []).filter((slot) => slot.bench == null)} round={round} />
            {benches.data?.filter((bench) => bench.state !== "new").map((bench) => (
                <section key={bench.name} aria-label={`Bench ${bench.name}`} className="mt-6">
                    <h2 className="mb-2 flex items-baseline gap-2 font-semibold">
                        Bench {bench.name} <State name={bench.state} />
                        {bench.state === "away" && bench.seen_at != null && (
                            <span className="text-sm font-normal text-faded">
                                last seen <When at={bench.seen_at} />
                            </span>
                        )}
                    </h2>
                    <Table slots={(slots.data ?? []).filter((slot) => slot.bench === bench.name)} round={round} />
                    {bench.state === "connected" && bench.slots === 0 && (
                        <p className="text-sm text-faded">It has no slot yet; make its readers slots below, under “Benches on other computers”.</p>
                    )}
                </section>
            ))}
            <Readers />
            <Benches />
        </Page>
    );
}

/** The slots of one bench, as they stand on its table. */
function Table({ slots, round }: { slots: Slot[]; round: ReturnType<typeof useRoundUnderWay> }) {
    return (
        <div className="grid gap-4 [grid-template-columns:repeat(auto-fill,minmax(15.5rem,1fr))]">
            {slots.map((slot) => (
                <SlotView key={slot.name} slot={slot} at={round?.slots.find((one) => one.slot === slot.name)} />
            ))}
        </div>
    );
}

function SlotView({ slot, at }: { slot: Slot; at: RoundSlot | undefined }) {
    const backup = useMutation({
        mutationFn: (reason: string) => post("backups", { slot: slot.name, reason, unverified: false }, requestKey()),
    });
    const [reason, setReason] = useState("");
    const drift = useMutation({
        mutationFn: () => post("drift", { slot: slot.name }, requestKey()),
    });
    const release = useMutation({ mutationFn: () => post(`slots/${slotPath(slot.name)}/release`, {}) });
    const card = slot.card;
    // What the last backup or comparison from here came to stays in sight while its card is in.
    const last = Math.max(backup.data?.id ?? 0, drift.data?.id ?? 0);
    const shown = slot.job != null && slot.job > 0 ? slot.job : card != null && last > 0 ? last : undefined;
    const busy = slot.job != null;
    const label = card?.label ?? undefined;
    const known = useQuery({
        queryKey: ["cards", label],
        queryFn: () => get(`cards/${encodeURIComponent(label ?? "")}`),
        enabled: label !== undefined,
    }).data;
    const barred = known?.card.suspicion != null || known?.card.state === "held";
    const failed = slot.failed ?? undefined;
    return (
        <section aria-label={`Slot ${slotWords(slot.name)}`} className="flex min-h-80 flex-col rounded-sm border border-line bg-sheet p-4">
            <header className="mb-3 flex items-baseline justify-between">
                <h2 className="font-semibold">Slot {slot.number}</h2>
                <span className="text-xs text-faded">{slot.place}</span>
            </header>
            {card == null ? (
                <div className="flex flex-1 flex-col items-center justify-center gap-1 rounded-sm border-2 border-dashed border-line text-faded">
                    {slot.trouble == null ? (
                        <>
                            <State name="empty" />
                            {at === undefined || at.words === "" ? (
                                <span className="text-xs">put a card in</span>
                            ) : (
                                <div className="px-3 text-center text-ink">
                                    <AtSlot at={at} />
                                </div>
                            )}
                        </>
                    ) : (
                        <>
                            <State name="no answer" />
                            <span className="px-3 text-center text-xs">{slot.trouble}</span>
                        </>
                    )}
                    {failed !== undefined && <Failed job={failed} />}
                </div>
            ) : (
                <>
                    <CardDrawn slot={slot} />
                    <div className="mt-3 grid min-h-36 flex-1 content-start gap-2">
                        {at !== undefined && <AtSlot at={at} />}
                        {card.twin != null && (
                            <Notice tone="oxide">
                                The card in slot {slotWords(card.twin)} says that it is {card.label} as well: one is a copy. Pull one of them.
                            </Notice>
                        )}
                        {!card.says_so && (card.label != null || card.occupant === "foreign") && !busy && <ThisIs key={card.insertion} slot={slot.name} taken={card.label} />}
                        {shown === undefined && failed === undefined && known !== undefined && <Known detail={known} />}
                        {shown !== undefined && shown !== failed && <JobView id={shown} compact />}
                        {failed !== undefined && <Failed job={failed} />}
                        <Failure error={backup.error ?? drift.error ?? release.error} />
                    </div>
                    {card.occupant === "ours" && !busy && (
                        <input
                            aria-label="Why a backup is taken"
                            placeholder="backup because …"
                            value={reason}
                            maxLength={500}
                            onChange={(event) => {
                                setReason(event.target.value);
                            }}
                            className={`${FIELD} mt-3 text-sm`}
                        />
                    )}
                    <div className="mt-3 flex flex-wrap gap-2">
                        <WriteDialog slot={slot.name} disabled={busy || barred || card.locked || card.in_use != null || card.twin != null} />
                        <Button
                            disabled={busy || backup.isPending || card.in_use != null || ["blank", "empty", "unfinished"].includes(card.occupant)}
                            onClick={() => {
                                backup.mutate(reason);
                            }}
                        >
                            Take a backup
                        </Button>
                        {card.occupant === "ours" && (
                            <Button
                                title="What changed on it since it was written"
                                disabled={busy || drift.isPending}
                                onClick={() => {
                                    drift.mutate();
                                }}
                            >
                                Compare
                            </Button>
                        )}
                        <CardWork
                            slot={slot.name}
                            unfinished={card.occupant === "unfinished"}
                            disabled={busy || card.locked || card.in_use != null}
                        />
                        {(card.occupant === "ours" || card.occupant === "foreign") && (
                            <BenchDialog word="Look inside" title={`The card in slot ${slotWords(slot.name)}`} disabled={busy}>
                                <Inside slot={slot.name} />
                            </BenchDialog>
                        )}
                        {card.in_use != null && (
                            <Button
                                disabled={release.isPending}
                                onClick={() => {
                                    release.mutate();
                                }}
                            >
                                Let go of it
                            </Button>
                        )}
                    </div>
                </>
            )}
        </section>
    );
}

/** What is on a card, what a backup of it would come to, and its files. */
function Inside({ slot }: { slot: SlotName }) {
    const outlook = useQuery({ queryKey: ["outlook", slot], queryFn: () => get(`slots/${slotPath(slot)}/outlook`) });
    const data = outlook.data;
    if (data === undefined) return outlook.error === null ? <p className="text-sm text-faded">Looking …</p> : <Failure error={outlook.error} />;
    return (
        <div className="grid gap-3 text-sm">
            <p>
                <Size bytes={data.content} /> in use. A backup would add about <Size bytes={data.expected} /> to the vault ({data.by})
                {data.free != null && (
                    <>
                        , where <Size bytes={data.free} /> are free
                    </>
                )}
                .{data.seconds != null && ` It takes about ${span(data.seconds)}.`}
            </p>
            {data.too_much != null && <Notice tone="oxide">{data.too_much}</Notice>}
            {data.remarks.map((remark) => (
                <Notice key={remark} tone="ochre">
                    {remark}
                </Notice>
            ))}
            <Files of={{ slot }} partitions={data.partitions} />
        </div>
    );
}

/** A card that does not say itself which it is gets the label that stands on its sticker, or one of its own. */
function ThisIs({ slot, taken }: { slot: SlotName; taken: string | null | undefined }) {
    const [open, setOpen] = useState(taken == null);
    const attach = useMutation({
        mutationFn: (sticker: { card: string | null; although_recorded?: boolean }) =>
            put(`slots/${slotPath(slot)}/label`, { although_recorded: false, ...sticker }),
        onSuccess: () => {
            setOpen(false);
        },
    });
    const refused = attach.error instanceof Refusal ? attach.error.problem.code : undefined;
    const recorded = refused === "recorded-otherwise" ? attach.variables : undefined;
    if (taken != null && !open) {
        return (
            <p className="text-sm text-faded">
                It does not say so itself: {taken} must stand on its sticker.{" "}
                <button
                    type="button"
                    className="text-blueprint underline"
                    onClick={() => {
                        setOpen(true);
                    }}
                >
                    it does not
                </button>
            </p>
        );
    }
    return (
        <form
            className="grid gap-2 text-sm"
            onSubmit={(event: FormEvent<HTMLFormElement>) => {
                event.preventDefault();
                const card = new FormData(event.currentTarget).get("card");
                attach.mutate({ card: typeof card === "string" ? card.trim() : "" });
            }}
        >
            <label className="flex items-center gap-2">
                Its sticker says
                <input name="card" required placeholder="C-0000" autoComplete="off" className={`${FIELD} w-24 font-mono`} />
            </label>
            <div className="flex flex-wrap gap-2">
                <Button type="submit" disabled={attach.isPending}>
                    It is this card
                </Button>
                {taken != null && (
                    <>
                        <Button
                            disabled={attach.isPending}
                            onClick={() => {
                                attach.mutate({ card: null });
                            }}
                        >
                            It has no sticker yet
                        </Button>
                        <Button
                            onClick={() => {
                                setOpen(false);
                            }}
                        >
                            It is {taken}
                        </Button>
                    </>
                )}
            </div>
            <Failure error={attach.error} />
            {recorded !== undefined && (
                <Button
                    look="danger"
                    disabled={attach.isPending}
                    onClick={() => {
                        attach.mutate({ ...recorded, although_recorded: true });
                    }}
                >
                    It is {recorded.card} all the same
                </Button>
            )}
        </form>
    );
}

/** What is known of a card while nothing is done with it. */
function Known({ detail }: { detail: CardDetail }) {
    const { card, backups, speeds } = detail;
    const writing = (speeds ?? []).find((speed) => speed.stage === "writing");
    const backup = backups[0];
    return (
        <div className="grid gap-1 text-sm">
            {card.suspicion != null && (
                <>
                    <State name="mistrusted" />
                    <p className="[overflow-wrap:anywhere]">{card.suspicion}</p>
                </>
            )}
            {card.state === "held" && (
                <>
                    <State name="held" />
                    <p>the only way back of {card.device ?? "its device"} until its successor works</p>
                </>
            )}
            <p className="text-faded">
                {card.verdict == null ? "never checked" : `checked: ${card.verdict}`}
                {writing !== undefined && `, ${size(mean(writing))}/s`}
            </p>
            {card.device != null && (
                <p className="text-faded">
                    {backup === undefined ? (
                        "no backup of it"
                    ) : (
                        <>
                            newest backup <When at={backup.taken_at} />
                        </>
                    )}
                </p>
            )}
            {card.notes !== "" && <p className="text-faded">{card.notes}</p>}
            <Link to="/cards/$label" params={{ label: card.label }} className="text-blueprint underline">
                its history
            </Link>
        </div>
    );
}

/** The last job here failed: that stays until somebody has seen it. */
function Failed({ job }: { job: number }) {
    const see = useMutation({ mutationFn: () => post(`jobs/${String(job)}/seen`, {}) });
    return (
        <div className="grid w-full gap-2 p-2 text-ink">
            <JobView id={job} compact />
            <div>
                <Button
                    disabled={see.isPending}
                    onClick={() => {
                        see.mutate();
                    }}
                >
                    I have seen it
                </Button>
            </div>
            <Failure error={see.error} />
        </div>
    );
}

/** The card itself, with its cut corner and its label as on the sticker. */
function CardDrawn({ slot }: { slot: Slot }) {
    const card = slot.card;
    if (card == null) return null;
    const state = slot.job != null ? "busy" : card.occupant;
    return (
        <div className="bg-line p-px [clip-path:polygon(0_0,calc(100%-1.6rem)_0,100%_1.6rem,100%_100%,0_100%)]">
            <div className="grid gap-1.5 bg-paper p-3 [clip-path:polygon(0_0,calc(100%-1.55rem)_0,100%_1.55rem,100%_100%,0_100%)]">
                <div className="font-mono text-2xl font-semibold tracking-tight">
                    {card.label ?? <span className="text-faded">no label</span>}
                </div>
                <div className="flex flex-wrap gap-x-3 text-sm text-faded">
                    <Size bytes={card.size} />
                    <span>{card.kind}</span>
                    {card.locked && <State name="locked" />}
                    {card.in_use != null && <State name="in use" />}
                    {card.suspicion != null && <State name="suspect" />}
                </div>
                <div className="text-sm">
                    <State name={state} />
                </div>
                <div className="min-h-10 text-sm">
                    {card.in_use != null ? (
                        <span className="text-ochre">{card.in_use}</span>
                    ) : card.base != null ? (
                        <>
                            {card.base}
                            {card.device != null && (
                                <>
                                    {" for "}
                                    <Label>{card.device}</Label>
                                </>
                            )}
                            <div className="text-faded">
                                written <When at={card.made} />
                            </div>
                        </>
                    ) : (
                        state !== "busy" && card.summary !== card.occupant && <span className="text-faded">{card.summary}</span>
                    )}
                </div>
            </div>
        </div>
    );
}
