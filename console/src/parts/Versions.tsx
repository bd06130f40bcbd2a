// Which backups of a device hold which version of a file.
import { useQuery } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";

import { get } from "../api/client";
import { Size, When } from "./text";
import { Amount, Failure, Table } from "./ui";

export function Versions({ device, partition, path }: { device: string; partition: number; path: string }) {
    const place = `partition=${String(partition)}&path=${encodeURIComponent(path)}`;
    const found = useQuery({
        queryKey: ["versions", device, partition, path],
        queryFn: () => get(`devices/${encodeURIComponent(device)}/versions?${place}`),
    });
    return (
        <section aria-label="Versions" className="mt-2 border-t border-line pt-3">
            <h3 className="mb-2 font-semibold">
                <span className="font-mono">{path}</span> in the backups of {device}
            </h3>
            <Failure error={found.error} />
            {found.data !== undefined && (
                <Table head={["version", "#length", "changed", "in"]}>
                    {found.data.map((version) => (
                        <tr key={version.sha256} className="align-top">
                            <td className="font-mono text-xs" title={`SHA-256 ${version.sha256}`}>
                                {version.sha256.slice(0, 12)}
                            </td>
                            <Amount>
                                <Size bytes={version.len} />
                            </Amount>
                            <td className="whitespace-nowrap">{version.modified == null ? "-" : <When at={version.modified} />}</td>
                            <td>
                                <ul className="flex flex-wrap gap-x-3">
                                    {version.backups.map((held) => (
                                        <li key={held.backup}>
                                            <Link to="/backups/$name" params={{ name: held.backup }} className="text-blueprint underline">
                                                {held.backup}
                                            </Link>
                                        </li>
                                    ))}
                                </ul>
                            </td>
                        </tr>
                    ))}
                </Table>
            )}
        </section>
    );
}
