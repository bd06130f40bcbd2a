// Cards: the list, and what was written onto one.
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link, useParams } from "@tanstack/react-router";
import type { FormEvent } from "react";

import { type Card as CardRow, type CardDetail, type Site, get, patch } from "../api/client";
import { ImprintView } from "../parts/ImprintView";
import { FilterBar, ListTable, useFilters, useList } from "../parts/List";
import { Size, When } from "../parts/text";
import { Amount, Button, FIELD, Facts, Failure, Page, Sheet, State } from "../parts/ui";

const STATES = ["blank", "writing", "incomplete", "imprinted", "lost", "retired"];

export function Cards() {
    const [filters, change] = useFilters();
    const sites = useQuery({ queryKey: ["sites"], queryFn: () => get<Site[]>("sites") });
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
                        </td>
                        <Amount>
                            <Size bytes={card.size} />
                        </Amount>
                        <td>{card.kind}</td>
                        <td>{card.device ?? "-"}</td>
                        <td>{card.slot ?? "-"}</td>
                        <td>{card.notes}</td>
                        <td className="whitespace-nowrap">
                            <When at={card.added_at} /> by {card.added_by}
                        </td>
                    </tr>
                )}
            />
        </Page>
    );
}

export function Card() {
    const { label } = useParams({ strict: false });
    const detail = useQuery({
        queryKey: ["cards", label],
        queryFn: () => get<CardDetail>(`cards/${encodeURIComponent(label ?? "")}`),
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
                                ["slot", data.card.slot ?? "in none"],
                                ["notes", data.card.notes === "" ? "-" : data.card.notes],
                            ]}
                        />
                        <Told card={data.card} />
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

/** What people say of a card: notes, lost, retired, found again. */
function Told({ card }: { card: CardRow }) {
    const queries = useQueryClient();
    const tell = useMutation({
        mutationFn: (change: { notes?: string; state?: string }) =>
            patch<CardDetail>(`cards/${encodeURIComponent(card.label)}`, change),
        onSuccess: (fresh) => {
            queries.setQueryData(["cards", card.label], fresh);
        },
    });
    const said = card.state === "lost" || card.state === "retired";
    const words: [string, string][] = said ? [["found", "It is there again"]] : [["lost", "It is lost"], ["retired", "Retire it"]];
    return (
        <form
            className="mt-3 flex flex-wrap items-end gap-3 text-sm"
            onSubmit={(event: FormEvent<HTMLFormElement>) => {
                event.preventDefault();
                const notes = new FormData(event.currentTarget).get("notes");
                tell.mutate({ notes: typeof notes === "string" ? notes : "" });
            }}
        >
            <label className="grid min-w-0 flex-1 gap-1">
                Notes
                <input key={card.notes} name="notes" defaultValue={card.notes} className={FIELD} />
            </label>
            <Button type="submit" disabled={tell.isPending}>
                Keep the note
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
            <Failure error={tell.error} />
        </form>
    );
}
