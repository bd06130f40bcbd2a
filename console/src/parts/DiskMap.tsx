// A disk drawn to scale: partitions and the gaps between them.
import type { Partition } from "../api/client";
import { Size } from "./text";
import { Amount, Table } from "./ui";

export function DiskMap({ length, partitions }: { length: number; partitions: Partition[] }) {
    const sorted = [...partitions].sort((a, b) => a.start - b.start);
    const width = (bytes: number) => `${String((100 * bytes) / length)}%`;
    return (
        <>
            <div className="relative mb-3 h-14 overflow-hidden rounded-sm border border-line bg-paper" aria-hidden>
                {sorted.map((part) => (
                    <div
                        key={part.number}
                        className="absolute inset-y-0 flex flex-col justify-center overflow-hidden border-x border-sheet bg-blueprint px-2 text-xs text-onblue"
                        style={{ left: width(part.start), width: width(part.len) }}
                    >
                        <span className="font-semibold whitespace-nowrap">
                            {part.number} {part.label ?? part.name ?? ""}
                        </span>
                        <span className="whitespace-nowrap">{part.file_system ?? part.kind}</span>
                    </div>
                ))}
            </div>
            <Table head={["#no", "label", "file system", "type", "#start", "#size"]}>
                {sorted.map((part) => (
                    <tr key={part.number}>
                        <Amount>{part.number}</Amount>
                        <td>{part.label ?? part.name ?? "-"}</td>
                        <td>{part.file_system ?? "none known"}</td>
                        <td>{part.kind}</td>
                        <Amount>
                            <Size bytes={part.start} />
                        </Amount>
                        <Amount>
                            <Size bytes={part.len} />
                        </Amount>
                    </tr>
                ))}
            </Table>
        </>
    );
}
