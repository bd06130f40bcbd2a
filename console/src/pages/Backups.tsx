// Backups: what was read, when, how much it added.
import { useBackups } from "../api/live";
import { Size, When } from "../parts/text";
import { Amount, Empty, Failure, Label, Page, State, Table } from "../parts/ui";

export function Backups() {
    const backups = useBackups();
    return (
        <Page title="Backups">
            <Failure error={backups.error} />
            {backups.data?.length === 0 && (
                <Empty>No backup yet. Put a card into a slot and choose “Take a backup” on the Bench.</Empty>
            )}
            {backups.data !== undefined && backups.data.length > 0 && (
                <Table head={["backup", "taken", "device", "card", "#content", "#new in the vault", "#smallest card", "verified"]}>
                    {backups.data.map((backup) => (
                        <tr key={backup.name}>
                            <td className="font-semibold">{backup.name}</td>
                            <td>
                                <When at={backup.taken_at} /> by {backup.taken_by}
                            </td>
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
                        </tr>
                    ))}
                </Table>
            )}
        </Page>
    );
}
