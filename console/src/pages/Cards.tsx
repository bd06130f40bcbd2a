// Cards: the list, and what was written onto one.
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link, useParams } from "@tanstack/react-router";
import type { FormEvent } from "react";

import { type Card as CardRow, get, patch } from "../api/client";
import { ImprintView } from "../parts/ImprintView";
import { FilterBar, ListTable, useFilters, useList } from "../parts/List";
import { SpeedPlot } from "../parts/SpeedPlot";
import { Size, When, size } from "../parts/text";
import { Amount, Button, FIELD, Facts, Failure, Notice, Page, Sheet, State, Table } from "../parts/ui";
import { slotWords } from "../parts/slot";

const STATES = ["blank", "writing", "incomplete", "imprinted", "held", "lost", "retired"];

export function Cards() {
    const [filters, change] = useFilters();
    const sites = useQuery({ queryKey: ["sites"], queryFn: () => get("sites") });
    const list = useList<CardRow>("cards", filters);
    return (
        <Page title="Cards">
            <FilterBar
                filters={filters}
                change={change}
                choices={[
                    ["State", "state", STATES.map((one) => [one, one])],
                    ["Site", "site", (sites.data ?? []).map((one) => [one.name, one.title])],
                ]}
            />
            <ListTable
                list={list}
                noun="card"
                filters={filters}
                change={change}
                empty="No card has a label yet. A card gets one the first time it is used."
                columns={[["card", "label"], ["state", "state"], ["#size", "size"], ["kind"], ["device", "device"], ["slot"], ["notes"], ["first used"]]}
                row={(card) => (
                    <tr key={card.label}>
                        <td>
                            <Link to="/cards/$label" params={{ label: card.label }} className="font-mono font-semibold text-blueprint underline">
                                {card.label}
                            </Link>
                        </td>
                        <td>
                            <State name={card.state} />
                            {card.suspicion != null && (
                                <>
                                    {" "}
                                    <State name="mistrusted" />
                                </>
                            )}
                        </td>
                        <Amount>
                            <Size bytes={card.size} />
                        </Amount>
                        <td>{card.kind}</td>
                        <td>{card.device ?? "-"}</td>
                        <td>{card.slot == null ? "-" : slotWords(card.slot)}</td>
                        <td>{card.notes}</td>
                        <td className="whitespace-nowrap">
                            <When at={card.added_at} /> by {card.added_by}
                        </td>
                    </tr>
                )}
            />
            <h2 className="mt-6 mb-2 font-semibold">By brand and batch</h2>
            <Lots />
        </Page>
    );
}

/** How cards did by brand and batch: one question before more are bought. */
function Lots() {
    const lots = useQuery({ queryKey: ["cards", "lots"], queryFn: () => get("card-lots") });
    const rows = lots.data ?? [];
    if (!rows.some((lot) => lot.brand !== "" || lot.batch !== "")) {
        return <p className="text-sm text-faded">Say of each card where it comes from (on its page), and brands and batches stand side by side here.</p>;
    }
    const rate = (value: number | null | undefined) => (value == null ? "-" : `${size(value)}/s`);
    return (
        <Table head={["brand", "batch", "#cards", "#written", "#proven", "#mistrusted", "#forged or bad", "#gone", "#writes at", "#reads at"]}>
            {rows.map((lot) => (
                <tr key={`${lot.brand}/${lot.batch}`}>
                    <td>{lot.brand === "" ? <span className="text-faded">not said</span> : lot.brand}</td>
                    <td>{lot.batch === "" ? <span className="text-faded">not said</span> : lot.batch}</td>
                    <Amount>{lot.cards}</Amount>
                    <Amount>{lot.written}</Amount>
                    <Amount>{lot.proven}</Amount>
                    <Amount>{lot.mistrusted}</Amount>
                    <Amount>{lot.bad}</Amount>
                    <Amount>{lot.gone}</Amount>
                    <Amount>{rate(lot.write_rate)}</Amount>
                    <Amount>{rate(lot.read_rate)}</Amount>
                </tr>
            ))}
        </Table>
    );
}

export function Card() {
    const { label } = useParams({ strict: false });
    const detail = useQuery({
        queryKey: ["cards", label],
        queryFn: () => get(`cards/${encodeURIComponent(label ?? "")}`),
    });
    const data = detail.data;
    return (
        <Page title={label ?? ""} aside={data !== undefined && <State name={data.card.state} />}>
            <Failure error={detail.error} />
            {data !== undefined && (
                <>
                    <Sheet>
                        <Facts
                            rows={[
                                ["size", <Size key="size" bytes={data.card.size} />],
                                ["kind", data.card.kind],
                                ["device", data.card.device ?? "none"],
                                ["slot", data.card.slot == null ? "in none" : slotWords(data.card.slot)],
                                ["notes", data.card.notes === "" ? "-" : data.card.notes],
                                ["origin", origin(data.card)],
                                [
                                    "checked",
                                    data.card.verdict == null ? "never" : <State key="verdict" name={data.card.verdict} />,
                                ],
                            ]}
                        />
                        {data.card.suspicion != null && (
                            <div className="mt-3">
                                <Notice tone="oxide">
                                    <span className="font-semibold">Mistrusted, and not written:</span> {data.card.suspicion}.
                                </Notice>
                            </div>
                        )}
                        {data.card.state === "held" && (
                            <div className="mt-3">
                                <Notice tone="ochre">
                                    Taken out of {data.card.device ?? "its device"}: it is the only way back until its successor works.
                                </Notice>
                            </div>
                        )}
                        <Told card={data.card} />
                    </Sheet>
                    <Sheet title="Speed">
                        <SpeedPlot speeds={data.speeds ?? []} />
                    </Sheet>
                    <Sheet title="Checks and faults">
                        {(data.checks ?? []).length + (data.faults ?? []).length === 0 && (
                            <p className="text-sm text-faded">It was never checked, and nothing was seen of it.</p>
                        )}
                        {(data.checks ?? []).map((check) => (
                            <p key={check.job} className="grid grid-cols-[7rem_minmax(0,1fr)] gap-2 text-sm">
                                <State name={check.verdict ?? "running"} />
                                <span>
                                    {check.words} <span className="text-faded">{check.kind} check by {check.operator}, <When at={check.started_at} /></span>
                                </span>
                            </p>
                        ))}
                        {(data.faults ?? []).map((fault) => (
                            <p key={fault.at} className="grid grid-cols-[7rem_minmax(0,1fr)] gap-2 text-sm">
                                <State name="caution" />
                                <span>
                                    {fault.symptom} <span className="text-faded">seen by {fault.operator}, <When at={fault.at} /></span>
                                </span>
                            </p>
                        ))}
                    </Sheet>
                    <Sheet title="Imprints">
                        {data.imprints.length === 0 && <p className="text-sm text-faded">Nothing was written onto it yet.</p>}
                        {data.imprints.map((imprint) => (
                            <ImprintView key={imprint.id} imprint={imprint} />
                        ))}
                    </Sheet>
                    <Sheet title="Backups read from it">
                        {data.backups.length === 0 && <p className="text-sm text-faded">None.</p>}
                        {data.backups.map((backup) => (
                            <p key={backup.name} className="text-sm">
                                {backup.name}, <When at={backup.taken_at} />
                            </p>
                        ))}
                    </Sheet>
                </>
            )}
        </Page>
    );
}

function origin(card: CardRow): string {
    const words = [card.brand, card.batch, card.seller, card.price].filter((word) => word !== undefined && word !== "");
    return words.length === 0 ? "-" : words.join(", ");
}

const ORIGIN = [
    ["brand", "Brand"],
    ["batch", "Batch"],
    ["seller", "Seller"],
    ["price", "Price"],
] as const;

/** What people say of a card: notes, origin; that it is lost, retired, found again, trusted, free. */
function Told({ card }: { card: CardRow }) {
    const queries = useQueryClient();
    const tell = useMutation({
        mutationFn: (change: Record<string, string>) =>
            patch(`cards/${encodeURIComponent(card.label)}`, change),
        onSuccess: (fresh) => {
            queries.setQueryData(["cards", card.label], fresh);
        },
    });
    const said = card.state === "lost" || card.state === "retired";
    const words: [string, string][] = said ? [["found", "It is there again"]] : [["lost", "It is lost"], ["retired", "Retire it"]];
    if (card.state === "held") words.unshift(["free", "It may be used again"]);
    if (card.suspicion != null && card.verdict !== "forged" && card.verdict !== "bad") words.unshift(["trusted", "It is good"]);
    return (
        <form
            className="mt-3 grid gap-3 text-sm"
            onSubmit={(event: FormEvent<HTMLFormElement>) => {
                event.preventDefault();
                tell.mutate(Object.fromEntries(new FormData(event.currentTarget)) as Record<string, string>);
            }}
        >
            <div className="flex flex-wrap items-end gap-3">
                <label className="grid min-w-48 flex-1 gap-1">
                    Notes
                    <input key={card.notes} name="notes" defaultValue={card.notes} className={FIELD} />
                </label>
                {ORIGIN.map(([name, text]) => (
                    <label key={name} className="grid gap-1">
                        {text}
                        <input key={card[name]} name={name} defaultValue={card[name]} className={`${FIELD} w-28`} />
                    </label>
                ))}
            </div>
            <div className="flex flex-wrap gap-3">
                <Button type="submit" disabled={tell.isPending}>
                    Keep it
                </Button>
                {words.map(([state, text]) => (
                    <Button
                        key={state}
                        disabled={tell.isPending}
                        onClick={() => {
                            tell.mutate({ state });
                        }}
                    >
                        {text}
                    </Button>
                ))}
            </div>
            <Failure error={tell.error} />
        </form>
    );
}
