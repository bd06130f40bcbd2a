// The record of one write.
import type { Imprint } from "../api/client";
import { FileView } from "./FileView";
import { Size, When } from "./text";
import { Label, State } from "./ui";
import { slotWords } from "./slot";

export function ImprintView({ imprint }: { imprint: Imprint }) {
    const set = imprint.settings.filter((setting) => setting.value != null);
    return (
        <details className="border-t border-line py-2 text-sm first:border-t-0">
            <summary className="flex cursor-pointer flex-wrap items-baseline gap-x-3">
                <span className="text-faded">#{imprint.id}</span>
                <State name={imprint.state} />
                <span className="font-semibold">{imprint.base}</span>
                <span>for {imprint.device ?? "nobody in particular"}</span>
                <span>
                    on <Label>{imprint.card}</Label>
                </span>
                <span className="text-faded">
                    <When at={imprint.finished_at ?? imprint.started_at} /> by {imprint.operator} in slot {slotWords(imprint.slot)}
                </span>
            </summary>
            <div className="mt-2 grid gap-1 pl-6">
                {imprint.verified != null && (
                    <p>
                        Verified: <Size bytes={imprint.verified} /> read back and found equal.
                    </p>
                )}
                {imprint.state === "verified" && !imprint.size_proven && (
                    <p className="text-faded">The size of the card is not proven; it is as the card reports.</p>
                )}
                {imprint.left_as === "may boot" && (
                    <p className="text-oxide">It may boot, but it is not verified; do not use it before it is written again.</p>
                )}
                {imprint.left_as === "unfinished" && <p className="text-ochre">The card says itself that it is unfinished.</p>}
                {imprint.state === "in doubt" && (
                    <p className="text-ochre">The service ended while it was written. Put the card in: what it is will be found out.</p>
                )}
                {imprint.settings_known === false && (
                    <p className="text-ochre">Which settings it carries is not known: it was restored.</p>
                )}
                {imprint.override_reason != null && <p className="text-ochre">All the same: {imprint.override_reason}</p>}
                {(imprint.accepted ?? []).length > 0 && (
                    <p className="text-ochre">Accepted: {(imprint.accepted ?? []).join(", ")}</p>
                )}
                {imprint.growth != null && <p className="text-faded">Growth: {imprint.growth}.</p>}
                {(imprint.left_out ?? []).map((left) => (
                    <p key={left} className="text-ochre">
                        {left}
                    </p>
                ))}
                {set.map((setting) => (
                    <p key={setting.name}>
                        <span className="text-faded">{setting.label}</span> {setting.value}
                    </p>
                ))}
                {imprint.files.map((file) => (
                    <FileView key={file.path} file={file} />
                ))}
            </div>
        </details>
    );
}
