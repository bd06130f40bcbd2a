// The files of a device as they would land on its card, beside the release's own.
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";

import { type PreviewFile, get } from "../api/client";
import { Button, Failure, Sheet } from "./ui";

const GROWTH: Record<string, string> = {
    here: "The last partition is grown over the card before it is written, where it can be.",
    image: "The image grows its last partition itself at its first start.",
    none: "The last partition stays as long as it is.",
};

export function Preview({ device }: { device: string }) {
    const [open, setOpen] = useState(false);
    const preview = useQuery({
        queryKey: ["devices", device, "preview"],
        queryFn: () => get(`devices/${encodeURIComponent(device)}/preview`),
        enabled: open,
    });
    const data = preview.data;
    return (
        <Sheet title="Files on its card">
            {!open && (
                <Button
                    onClick={() => {
                        setOpen(true);
                    }}
                >
                    Show what would land
                </Button>
            )}
            <Failure error={preview.error} />
            {open && data !== undefined && (
                <>
                    <p className="mb-3 text-sm text-faded">
                        With {data.release}; secrets are masked. {GROWTH[data.grow]}
                    </p>
                    {data.files.length === 0 && <p className="text-sm">The release places no files.</p>}
                    {data.files.map((file) => (
                        <FilePair key={`${file.file.partition}:${file.file.path}`} shown={file} />
                    ))}
                </>
            )}
        </Sheet>
    );
}

/** User and group by number; what is left out stays as it is. */
function ownership(owner: string): string {
    const [user = "", group = ""] = owner.split(":");
    const words = [user === "" ? "" : `user ${user}`, group === "" ? "" : `group ${group}`];
    return words.filter((word) => word !== "").join(", ");
}

interface Row {
    before?: string;
    after?: string;
    same: boolean;
}

/** Lines side by side: those taken away stand beside those put in their place. */
function rows(shown: PreviewFile): Row[] {
    const found: Row[] = [];
    let gone: string[] = [];
    let put: string[] = [];
    const flush = () => {
        for (let at = 0; at < Math.max(gone.length, put.length); at += 1) {
            found.push({ before: gone[at], after: put[at], same: false });
        }
        gone = [];
        put = [];
    };
    for (const line of shown.diff) {
        if (line.change === "removed") gone.push(line.text);
        else if (line.change === "added") put.push(line.text);
        else {
            flush();
            found.push({ before: line.text, after: line.text, same: true });
        }
    }
    flush();
    return found;
}

function FilePair({ shown }: { shown: PreviewFile }) {
    const { file } = shown;
    const about = [file.mode == null ? "" : `mode ${file.mode}`, ownership(file.owner ?? "")];
    return (
        <section className="mb-4 text-sm">
            <h3 className="mb-1">
                <span className="text-faded">{file.action}</span> <span className="font-mono font-semibold">{file.path}</span>{" "}
                <span className="text-faded">on partition {file.partition}</span>
                {about.filter((word) => word !== "").map((word) => (
                    <span key={word} className="ml-2 text-faded">
                        {word}
                    </span>
                ))}
                {file.action === "link" && <span className="ml-2 font-mono">→ {file.content}</span>}
            </h3>
            {file.action !== "link" && file.action !== "remove" && (
                <div className="overflow-x-auto rounded-sm border border-line bg-paper">
                    <table className="w-full table-fixed border-collapse font-mono text-xs">
                        <thead className="font-sans text-faded">
                            <tr className="text-left">
                                <th scope="col" className="w-1/2 px-2 py-1 font-normal">
                                    {shown.before == null ? "the release has no such file" : "in the release"}
                                </th>
                                <th scope="col" className="border-l border-line px-2 py-1 font-normal">
                                    on the card
                                </th>
                            </tr>
                        </thead>
                        <tbody>
                            {rows(shown).map((row, at) => (
                                <tr key={at}>
                                    <Side text={row.before} mark={row.same ? undefined : "–"} tone="text-oxide" />
                                    <Side text={row.after} mark={row.same ? undefined : "+"} tone="text-moss" edge />
                                </tr>
                            ))}
                        </tbody>
                    </table>
                </div>
            )}
        </section>
    );
}

function Side({ text, mark, tone, edge }: { text?: string; mark?: string; tone: string; edge?: boolean }) {
    const marked = text !== undefined && mark !== undefined;
    return (
        <td className={`px-2 align-top break-all whitespace-pre-wrap ${edge === true ? "border-l border-line" : ""} ${marked ? tone : ""}`}>
            {text === undefined ? "" : `${marked ? mark : " "} ${text}`}
        </td>
    );
}
