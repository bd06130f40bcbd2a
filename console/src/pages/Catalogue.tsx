// The catalogue: each appliance with its releases, newest version first, and what is new from
// publishers.
import { useQuery } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import { useState } from "react";

import { type Line, get } from "../api/client";
import { AddRelease } from "../parts/AddRelease";
import { Feeds } from "../parts/Feeds";
import { Size, When } from "../parts/text";
import { Amount, Button, Empty, Failure, Page, State, Table } from "../parts/ui";

export function Catalogue() {
    const lines = useQuery({ queryKey: ["catalogue"], queryFn: () => get("catalogue") });
    const [adding, setAdding] = useState(false);
    return (
        <Page
            title="Catalogue"
            aside={
                <Button
                    aria-expanded={adding}
                    onClick={() => {
                        setAdding(!adding);
                    }}
                >
                    Add a release
                </Button>
            }
        >
            {adding && <AddRelease />}
            <Failure error={lines.error} />
            {lines.data?.length === 0 && <Empty>No release yet. Add the first one: an image and its release sheet.</Empty>}
            {(lines.data ?? []).map((line) => (
                <LineView key={`${line.appliance} ${line.variant ?? ""}`} line={line} />
            ))}
            <Feeds />
        </Page>
    );
}

function LineView({ line }: { line: Line }) {
    const title = [line.appliance, line.variant].filter((part) => part != null).join(" ");
    const newest = line.releases.find((release) => release.name === line.newest);
    return (
        <section aria-label={title} className="mb-6">
            <header className="mb-1.5 flex flex-wrap items-baseline gap-x-4 text-sm">
                <h2 className="text-base font-semibold">{title}</h2>
                <span>
                    newest <span className="font-semibold">{newest?.version ?? "none released"}</span>
                </span>
                <span className="text-faded">
                    {line.devices} {line.devices === 1 ? "device" : "devices"}
                </span>
                {line.to_write > 0 && (
                    <Link to="/devices" search={{ standing: "to write", appliance: line.appliance } as never} className="text-ochre underline">
                        {line.to_write} {line.to_write === 1 ? "card" : "cards"} to write again
                    </Link>
                )}
                {line.releases.length > 1 && (
                    <Link
                        to="/compare/$a/$b"
                        params={{ a: line.releases[1]?.name ?? "", b: line.releases[0]?.name ?? "" }}
                        className="ml-auto text-blueprint underline"
                    >
                        Compare two
                    </Link>
                )}
            </header>
            <Table head={["version", "state", "current on", "suits", "date", "#in use", "#smallest card", "#cards", "added"]}>
                {line.releases.map((release) => (
                    <tr key={release.name} className={release.state === "withdrawn" ? "text-faded" : ""}>
                        <td className="whitespace-nowrap">
                            <Link to="/catalogue/$name" params={{ name: release.name }} className="font-semibold text-blueprint underline">
                                {release.name}
                            </Link>
                        </td>
                        <td>
                            <State name={release.state} />
                        </td>
                        <td>{release.current_for.join(", ")}</td>
                        <td>{release.boards.join(", ")}</td>
                        <td className="whitespace-nowrap">{release.dated ?? "-"}</td>
                        <Amount>
                            <Size bytes={release.content} />
                        </Amount>
                        <Amount>
                            <Size bytes={release.smallest_card} />
                        </Amount>
                        <Amount>{release.devices}</Amount>
                        <td className="whitespace-nowrap">
                            <When at={release.added_at} />
                        </td>
                    </tr>
                ))}
            </Table>
        </section>
    );
}
