// A disk drawn to scale: partitions with what is in use and free in them, and the gaps between.
import type { Gap, Partition } from "../api/client";
import { Size, size } from "./text";
import { Amount, Table } from "./ui";

export function DiskMap({ length, partitions, gaps = [] }: { length: number; partitions: Partition[]; gaps?: Gap[] }) {
    const sorted = [...partitions].sort((a, b) => a.start - b.start);
    const width = (bytes: number) => `${String((100 * bytes) / length)}%`;
    const inUse = (part: Partition) => `${String((100 * (part.used ?? part.len)) / part.len)}%`;
    return (
        <>
            <div className="relative mb-1 h-16 overflow-hidden rounded-sm border border-line bg-paper" aria-hidden>
                {gaps.map((gap) => (
                    <div
                        key={gap.start}
                        className="absolute inset-y-0 bg-[repeating-linear-gradient(45deg,var(--color-line)_0_1px,transparent_1px_6px)]"
                        style={{ left: width(gap.start), width: width(gap.len) }}
                    />
                ))}
                {sorted.map((part) => (
                    <div
                        key={part.number}
                        title={`${String(part.number)}: ${size(part.len)}`}
                        className="absolute inset-y-0 overflow-hidden border border-blueprint bg-sheet"
                        style={{ left: width(part.start), width: width(part.len) }}
                    >
                        <div className="absolute inset-x-0 bottom-0 h-2.5 bg-blueprint" style={{ width: inUse(part) }} />
                        <div className="px-2 pt-1.5 text-xs leading-tight whitespace-nowrap">
                            <div className="font-semibold">
                                {part.number > 0 && part.number} {part.label ?? part.name ?? ""}
                            </div>
                            <div className="text-faded">{part.file_system ?? part.kind}</div>
                        </div>
                    </div>
                ))}
            </div>
            <div className="mb-3 flex justify-between text-xs text-faded">
                <span>0</span>
                <span>
                    <span className="mr-1 inline-block h-2 w-4 bg-blueprint align-middle" aria-hidden /> in use
                    <span className="mr-1 ml-4 inline-block h-2 w-4 border border-blueprint bg-sheet align-middle" aria-hidden /> free
                    <span
                        className="mr-1 ml-4 inline-block h-2 w-4 border border-line bg-[repeating-linear-gradient(45deg,var(--color-line)_0_1px,transparent_1px_4px)] align-middle"
                        aria-hidden
                    />{" "}
                    no partition
                </span>
                <span>{size(length)}</span>
            </div>
            <Table head={["#no", "label", "file system", "type", "#start", "#size", "#in use", "#free"]}>
                {sorted.map((part) => (
                    <tr key={part.number}>
                        <Amount>{part.number}</Amount>
                        <td>{part.label ?? part.name ?? "-"}</td>
                        <td title={part.fs_uuid ?? undefined}>{part.file_system ?? "none known"}</td>
                        <td title={part.uuid ?? undefined}>{part.kind}</td>
                        <Amount>
                            <Size bytes={part.start} />
                        </Amount>
                        <Amount>
                            <Size bytes={part.len} />
                        </Amount>
                        <Amount>{part.used == null ? "all kept" : <Size bytes={part.used} />}</Amount>
                        <Amount>{part.free == null ? "-" : <Size bytes={part.free} />}</Amount>
                    </tr>
                ))}
            </Table>
        </>
    );
}
