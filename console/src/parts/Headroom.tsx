// How the used data of a device grew over its backups, beside the size of its card.
import { useQuery } from "@tanstack/react-query";

import { get } from "../api/client";
import { Plot } from "./Plot";
import { size } from "./text";
import { Failure, Notice, Sheet } from "./ui";

export function Headroom({ device }: { device: string }) {
    const found = useQuery({ queryKey: ["headroom", device], queryFn: () => get(`devices/${encodeURIComponent(device)}/headroom`) });
    const points = found.data?.points ?? [];
    const last = points.at(-1);
    const first = points[0];
    if (last === undefined || first === undefined) return <Failure error={found.error} />;
    const time = (at: string) => new Date(at).getTime();
    return (
        <Sheet title="Room on its card">
            {(found.data?.warnings ?? []).map((words) => (
                <div key={words} className="mb-3">
                    <Notice tone="ochre">{words}</Notice>
                </div>
            ))}
            <Plot
                label="Used data over backups"
                levels={[
                    { at: 0, words: "", line: "thin" },
                    { at: last.used, words: size(last.used), line: "none" },
                    { at: last.card_size, words: size(last.card_size), line: "limit" },
                ]}
                ends={[first.at.slice(0, 10), last.at.slice(0, 10)]}
                lines={[{ name: "used", color: "var(--color-blueprint)", dots: true, points: points.map((point) => [time(point.at), point.used]) }]}
            >
                <span>
                    in use at each backup, under the size of its card
                    {found.data?.full_at != null && <>; full on {found.data.full_at.slice(0, 10)} if it goes on so</>}
                </span>
            </Plot>
        </Sheet>
    );
}
