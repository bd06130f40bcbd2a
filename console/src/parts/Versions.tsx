// Which backups of a device hold which version of a file.
import { useInfiniteQuery } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";

import { get } from "../api/client";
import { Size, When } from "./text";
import { Amount, Button, Failure, Table } from "./ui";

export function Versions({ device, partition, path }: { device: string; partition: number; path: string }) {
    const place = `partition=${String(partition)}&path=${encodeURIComponent(path)}`;
    const found = useInfiniteQuery({
        queryKey: ["versions", device, partition, path],
        queryFn: ({ pageParam }) =>
            get(`devices/${encodeURIComponent(device)}/versions?${place}${pageParam === "" ? "" : `&after=${encodeURIComponent(pageParam)}`}`),
        initialPageParam: "",
        getNextPageParam: (page) => page.next ?? undefined,
    });
    const pages = found.data?.pages ?? [];
    const looked = pages.reduce((sum, page) => sum + page.looked_through, 0);
    // A version that older backups hold too is the same one.
    const versions = pages.flatMap((page) => page.versions);
    const digests = [...new Set(versions.map((version) => version.sha256))];
    return (
        <section aria-label="Versions" className="mt-2 border-t border-line pt-3">
            <h3 className="mb-2 font-semibold">
                <span className="font-mono">{path}</span> in the backups of {device}
            </h3>
            <Failure error={found.error} />
            {pages.length > 0 && (
                <Table head={["version", "#length", "changed", "in"]}>
                    {digests.map((digest) => {
                        const same = versions.filter((version) => version.sha256 === digest);
                        const version = same[0];
                        return (
                            version !== undefined && (
                                <tr key={digest} className="align-top">
                                    <td className="font-mono text-xs" title={`SHA-256 ${digest}`}>
                                        {digest.slice(0, 12)}
                                    </td>
                                    <Amount>
                                        <Size bytes={version.len} />
                                    </Amount>
                                    <td className="whitespace-nowrap">
                                        {version.modified == null ? "-" : <When at={version.modified} />}
                                    </td>
                                    <td>
                                        <ul className="flex flex-wrap gap-x-3">
                                            {same
                                                .flatMap((one) => one.backups)
                                                .map((held) => (
                                                    <li key={held.backup}>
                                                        <Link
                                                            to="/backups/$name"
                                                            params={{ name: held.backup }}
                                                            className="text-blueprint underline"
                                                        >
                                                            {held.backup}
                                                        </Link>
                                                    </li>
                                                ))}
                                        </ul>
                                    </td>
                                </tr>
                            )
                        );
                    })}
                </Table>
            )}
            {found.hasNextPage && (
                <p className="mt-2 flex items-center gap-3 text-sm">
                    {looked} backups were looked through.
                    <Button
                        disabled={found.isFetching}
                        onClick={() => {
                            void found.fetchNextPage();
                        }}
                    >
                        Look through older ones
                    </Button>
                </p>
            )}
        </section>
    );
}
