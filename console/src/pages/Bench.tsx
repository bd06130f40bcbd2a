// The bench: slots as they stand on the table, what is in each, what can be done with it.
import { useMutation } from "@tanstack/react-query";

import { type Job, type Slot, post, requestKey } from "../api/client";
import { useSlots } from "../api/live";
import { JobView } from "../parts/JobView";
import { Size, When } from "../parts/text";
import { Button, Empty, Failure, Label, Page, State } from "../parts/ui";
import { WriteDialog } from "../parts/WriteDialog";

export function Bench() {
    const slots = useSlots();
    return (
        <Page title="Bench">
            <Failure error={slots.error} />
            {slots.data?.length === 0 && (
                <Empty>
                    No card reader answers. Connect one, or start the stand-in with{" "}
                    <code className="font-mono">duplicarium-standin serve --dir FOLDER</code> and give its address to the
                    service with <code className="font-mono">--standin</code>.
                </Empty>
            )}
            <div className="grid gap-4 [grid-template-columns:repeat(auto-fill,minmax(15.5rem,1fr))]">
                {slots.data?.map((slot) => (
                    <SlotView key={slot.number} slot={slot} />
                ))}
            </div>
        </Page>
    );
}

function SlotView({ slot }: { slot: Slot }) {
    const backup = useMutation({
        mutationFn: () => post<Job>("backups", { slot: slot.number }, requestKey()),
    });
    const drift = useMutation({
        mutationFn: () => post<Job>("drift", { slot: slot.number }, requestKey()),
    });
    const card = slot.card;
    // What the last backup or comparison from here came to stays in sight while its card is in.
    const last = Math.max(backup.data?.id ?? 0, drift.data?.id ?? 0);
    const shown = slot.job != null && slot.job > 0 ? slot.job : card != null && last > 0 ? last : undefined;
    const busy = slot.job != null;
    const failed = slot.failed ?? undefined;
    return (
        <section aria-label={`Slot ${String(slot.number)}`} className="flex min-h-80 flex-col rounded-sm border border-line bg-sheet p-4">
            <header className="mb-3 flex items-baseline justify-between">
                <h2 className="font-semibold">Slot {slot.number}</h2>
                <span className="text-xs text-faded">{slot.place}</span>
            </header>
            {card == null ? (
                <div className="flex flex-1 flex-col items-center justify-center gap-1 rounded-sm border-2 border-dashed border-line text-faded">
                    <State name="empty" />
                    <span className="text-xs">put a card in</span>
                    {failed !== undefined && <Failed job={failed} />}
                </div>
            ) : (
                <>
                    <CardDrawn slot={slot} />
                    <div className="mt-3 grid min-h-36 flex-1 content-start gap-2">
                        {shown !== undefined && shown !== failed && <JobView id={shown} compact />}
                        {failed !== undefined && <Failed job={failed} />}
                        <Failure error={backup.error ?? drift.error} />
                    </div>
                    <div className="mt-3 flex flex-wrap gap-2">
                        <WriteDialog slot={slot.number} disabled={busy || card.locked} />
                        <Button
                            disabled={busy || backup.isPending || card.occupant === "blank" || card.occupant === "unfinished"}
                            onClick={() => {
                                backup.mutate();
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
                    </div>
                </>
            )}
        </section>
    );
}

/** The last job here failed: that stays until somebody has seen it. */
function Failed({ job }: { job: number }) {
    const see = useMutation({ mutationFn: () => post<Job>(`jobs/${String(job)}/seen`, {}) });
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
                </div>
                <div className="text-sm">
                    <State name={state} />
                </div>
                <div className="min-h-10 text-sm">
                    {card.base != null ? (
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
