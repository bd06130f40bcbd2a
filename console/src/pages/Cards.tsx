// Cards: the list, and what was written onto one.
import { useQuery } from "@tanstack/react-query";
import { Link, useParams } from "@tanstack/react-router";

import { type Card as CardRow, type CardDetail, get } from "../api/client";
import { ImprintView } from "../parts/ImprintView";
import { Size, When } from "../parts/text";
import { Amount, Empty, Facts, Failure, Page, Sheet, State, Table } from "../parts/ui";

export function Cards() {
    const cards = useQuery({ queryKey: ["cards"], queryFn: () => get<CardRow[]>("cards") });
    return (
        <Page title="Cards">
            <Failure error={cards.error} />
            {cards.data?.length === 0 && <Empty>No card has a label yet. A card gets one the first time it is used.</Empty>}
            {cards.data !== undefined && cards.data.length > 0 && (
                <Table head={["card", "state", "#size", "kind", "device", "slot", "first used"]}>
                    {cards.data.map((card) => (
                        <tr key={card.label}>
                            <td>
                                <Link
                                    to="/cards/$label"
                                    params={{ label: card.label }}
                                    className="font-mono font-semibold text-blueprint underline"
                                >
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
                            <td>
                                <When at={card.added_at} /> by {card.added_by}
                            </td>
                        </tr>
                    ))}
                </Table>
            )}
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
                            ]}
                        />
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
