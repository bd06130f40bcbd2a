// Backups: what was read, when, how much it added.
import { Link } from "@tanstack/react-router";

import type { Backup } from "../api/client";
import { FilterBar, ListTable, useFilters, useList } from "../parts/List";
import { Size, When } from "../parts/text";
import { Amount, Label, Page, State } from "../parts/ui";

export function Backups() {
    const [filters, change] = useFilters();
    const list = useList<Backup>("backups", filters);
    return (
        <Page title="Backups">
            <FilterBar filters={filters} change={change} choices={[]} />
            <ListTable
                list={list}
                noun="backup"
                filters={filters}
                change={change}
                empty="No backup yet. Put a card into a slot and choose “Take a backup” on the Bench."
                columns={[
                    ["taken", "newest"],
                    ["backup", "name"],
                    ["device", "device"],
                    ["card", "card"],
                    ["#content"],
                    ["#new in the vault"],
                    ["#smallest card"],
                    ["verified"],
                    [""],
                ]}
                row={(backup) => (
                    <tr key={backup.name}>
                        <td className="whitespace-nowrap">
                            <When at={backup.taken_at} /> by {backup.taken_by}
                        </td>
                        <td className="font-semibold">{backup.name}</td>
                        <td>{backup.device ?? "-"}</td>
                        <td>
                            <Label>{backup.card}</Label>
                        </td>
                        <Amount>
                            <Size bytes={backup.content} />
                        </Amount>
                        <Amount>
                            <Size bytes={backup.stored} />
                        </Amount>
                        <Amount>
                            <Size bytes={backup.smallest_card} />
                        </Amount>
                        <td title={backup.verified}>
                            <State name="verified" />
                        </td>
                        <td>
                            <Link to="/rounds" search={{ backup: backup.name } as never} className="text-blueprint underline">
                                Copies
                            </Link>
                        </td>
                    </tr>
                )}
            />
        </Page>
    );
}
