// The files inside an image, folder by folder.
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";

import { type Partition, get, ofRelease } from "../api/client";
import { Size } from "./text";
import { Amount, Button, Failure, Table } from "./ui";

const READABLE = /^(FAT|ext)/;

/** Whose files: of a release, or of a backup. */
export type Whose = { release: string } | { backup: string };

const below = (whose: Whose, rest: string) =>
    "release" in whose ? ofRelease(whose.release, rest) : (`backups/${encodeURIComponent(whose.backup)}${rest}` as const);

export function Files({ of, partitions }: { of: Whose; partitions: Partition[] }) {
    const readable = partitions.filter((part) => READABLE.test(part.file_system ?? ""));
    const [at, setAt] = useState({ partition: readable.at(-1)?.number, path: "" });
    const place = `partition=${String(at.partition)}&path=${encodeURIComponent(at.path)}`;
    const folder = useQuery({
        queryKey: ["files", of, at],
        queryFn: () =>
            "release" in of
                ? get(ofRelease(of.release, `/folder?${place}`))
                : get(`backups/${encodeURIComponent(of.backup)}/folder?${place}`),
        enabled: at.partition !== undefined,
        staleTime: Infinity,
    });
    if (at.partition === undefined) return <p className="text-sm text-faded">No partition whose files can be read.</p>;
    const file = (name: string) =>
        `/api/v1/${below(of, `/file?partition=${String(at.partition)}&path=${encodeURIComponent(`${at.path}/${name}`)}`)}`;
    const parts = at.path.split("/").filter((part) => part !== "");
    return (
        <div className="grid gap-2 text-sm">
            <div className="flex flex-wrap items-center gap-2">
                {readable.map((part) => (
                    <Button
                        key={part.number}
                        aria-pressed={part.number === at.partition}
                        className={part.number === at.partition ? "!border-blueprint text-blueprint" : ""}
                        onClick={() => {
                            setAt({ partition: part.number, path: "" });
                        }}
                    >
                        {part.number} {part.label ?? part.file_system}
                    </Button>
                ))}
                <nav aria-label="Folder" className="ml-2 font-mono">
                    <button
                        type="button"
                        className="cursor-pointer text-blueprint underline"
                        onClick={() => {
                            setAt({ ...at, path: "" });
                        }}
                    >
                        /
                    </button>
                    {parts.map((part, depth) => (
                        <button
                            key={parts.slice(0, depth + 1).join("/")}
                            type="button"
                            className="ml-1 cursor-pointer text-blueprint underline"
                            onClick={() => {
                                setAt({ ...at, path: `/${parts.slice(0, depth + 1).join("/")}` });
                            }}
                        >
                            {part}/
                        </button>
                    ))}
                </nav>
            </div>
            <Failure error={folder.error} />
            <div className="max-h-96 min-h-40 overflow-y-auto">
                <Table head={["name", "#length", "mode", "owner"]}>
                    {(folder.data ?? []).map((node) => (
                        <tr key={node.name}>
                            <td className="font-mono text-xs">
                                {node.kind === "folder" && (
                                    <button
                                        type="button"
                                        className="cursor-pointer font-semibold text-blueprint underline"
                                        onClick={() => {
                                            setAt({ ...at, path: `${at.path}/${node.name}` });
                                        }}
                                    >
                                        {node.name}/
                                    </button>
                                )}
                                {node.kind === "file" && (
                                    <a href={file(node.name)} download={node.name} className="text-blueprint underline">
                                        {node.name}
                                    </a>
                                )}
                                {node.kind !== "folder" && node.kind !== "file" && node.name}
                                {node.target != null && ` → ${node.target}`}
                            </td>
                            <Amount>{node.kind === "file" ? <Size bytes={node.len} /> : ""}</Amount>
                            <td className="font-mono text-xs">{node.mode}</td>
                            <td className="font-mono text-xs">{node.owner}</td>
                        </tr>
                    ))}
                </Table>
            </div>
        </div>
    );
}
