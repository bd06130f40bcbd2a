// A file as it lands on a card, secrets masked.
import type { PlannedFile } from "../api/client";

export function FileView({ file }: { file: PlannedFile }) {
    return (
        <figure className="rounded-sm border border-line text-sm">
            <figcaption className="border-b border-line px-3 py-1 text-faded">
                {file.action} <span className="font-mono">{file.path}</span> on partition {file.partition}
                {file.action === "link" && <span className="font-mono"> → {file.content}</span>}
            </figcaption>
            {file.action !== "link" && file.action !== "remove" && (
                <pre className="overflow-x-auto px-3 py-2 font-mono text-xs">{file.content}</pre>
            )}
        </figure>
    );
}
