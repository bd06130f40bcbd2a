// The record of one write.
import type { Imprint } from "../api/client";
import { FileView } from "./FileView";
import { Size, When } from "./text";
import { Label, State } from "./ui";

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
                    <When at={imprint.finished_at ?? imprint.started_at} /> by {imprint.operator} in slot {imprint.slot}
                </span>
            </summary>
            <div className="mt-2 grid gap-1 pl-6">
                {imprint.verified != null && (
                    <p>
                        Verified: <Size bytes={imprint.verified} /> read back and found equal.
                    </p>
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
