// The files inside an image, folder by folder.
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";

import { type Partition, get, ofRelease } from "../api/client";
import { Size, When } from "./text";
import { Amount, Button, Failure, Table } from "./ui";
import { Versions } from "./Versions";
import { type SlotName, slotPath } from "./slot";

const READABLE = /^(FAT|ext)/;

/** Whose files: of a release, of a backup, or of the card in a slot. */
export type Whose = { release: string } | { backup: string } | { slot: SlotName };

const below = (whose: Whose, rest: string) =>
    "release" in whose
        ? ofRelease(whose.release, rest)
        : "backup" in whose
          ? (`backups/${encodeURIComponent(whose.backup)}${rest}` as const)
          : (`slots/${slotPath(whose.slot)}${rest}` as const);

/** With a device, each file has its versions in the backups of that device. */
export function Files({ of, partitions, device }: { of: Whose; partitions: Partition[]; device?: string }) {
    const [asked, ask] = useState<{ partition: number; path: string }>();
    const readable = partitions.filter((part) => READABLE.test(part.file_system ?? ""));
    const [at, setAt] = useState({ partition: readable.at(-1)?.number, path: "" });
    const place = `partition=${String(at.partition)}&path=${encodeURIComponent(at.path)}`;
    const folder = useQuery({
        queryKey: ["files", of, at],
        queryFn: () =>
            "release" in of
                ? get(ofRelease(of.release, `/folder?${place}`))
                : "backup" in of
                  ? get(`backups/${encodeURIComponent(of.backup)}/folder?${place}`)
                  : get(`slots/${slotPath(of.slot)}/folder?${place}`),
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
                {"slot" in of || (
                    <a
                        href={`/api/v1/${below(of, `/archive?${place}&pack=gz`)}`}
                        download
                        title="Files with owners, modes and times, as a packed tar archive"
                        className="ml-auto text-blueprint underline"
                    >
                        this folder as tar.gz
                    </a>
                )}
            </div>
            <Failure error={folder.error} />
            <div className="max-h-96 min-h-40 overflow-y-auto">
                <Table head={["name", "#length", "changed", "mode", "owner", ...(device === undefined ? [] : [""])]}>
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
                            <td className="text-xs whitespace-nowrap">{node.modified == null ? "" : <When at={node.modified} />}</td>
                            <td className="font-mono text-xs">{node.mode}</td>
                            <td className="font-mono text-xs">{node.owner}</td>
                            {device !== undefined && (
                                <td>
                                    {node.kind === "file" && (
                                        <button
                                            type="button"
                                            className="cursor-pointer text-xs text-blueprint underline"
                                            onClick={() => {
                                                ask({ partition: at.partition ?? 0, path: `${at.path}/${node.name}` });
                                            }}
                                        >
                                            versions
                                        </button>
                                    )}
                                </td>
                            )}
                        </tr>
                    ))}
                </Table>
            </div>
            {device !== undefined && asked !== undefined && <Versions device={device} {...asked} />}
        </div>
    );
}
