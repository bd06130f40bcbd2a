// How the used data of a device grew over its backups, beside the size of its card.
import { useQuery } from "@tanstack/react-query";

import { get } from "../api/client";
import { size } from "./text";
import { Failure, Notice, Sheet } from "./ui";

const WIDE = 640;
const TALL = 150;
const LEFT = 64;
const LOW = 22;

export function Headroom({ device }: { device: string }) {
    const found = useQuery({ queryKey: ["headroom", device], queryFn: () => get(`devices/${encodeURIComponent(device)}/headroom`) });
    const points = found.data?.points ?? [];
    const last = points.at(-1);
    const first = points[0];
    if (last === undefined || first === undefined) return <Failure error={found.error} />;
    const most = Math.max(...points.map((point) => point.card_size));
    const time = (at: string) => new Date(at).getTime();
    const from = time(first.at);
    const until = time(last.at);
    const x = (at: string) => LEFT + (until === from ? (WIDE - LEFT - 8) / 2 : ((WIDE - LEFT - 8) * (time(at) - from)) / (until - from));
    const y = (bytes: number) => TALL - LOW - ((TALL - LOW - 12) * bytes) / most;
    return (
        <Sheet title="Room on its card">
            {(found.data?.warnings ?? []).map((words) => (
                <div key={words} className="mb-3">
                    <Notice tone="ochre">{words}</Notice>
                </div>
            ))}
            <figure className="grid gap-1">
                <svg viewBox={`0 0 ${String(WIDE)} ${String(TALL)}`} className="w-full max-w-2xl" role="img" aria-label="Used data over backups">
                    <line x1={LEFT} x2={WIDE - 8} y1={y(0)} y2={y(0)} stroke="var(--color-line)" />
                    <line x1={LEFT} x2={WIDE - 8} y1={y(last.card_size)} y2={y(last.card_size)} stroke="var(--color-oxide)" strokeDasharray="4 4" />
                    <text x={LEFT - 6} y={y(last.card_size) + 4} textAnchor="end" fontSize="11" fill="var(--color-faded)">
                        {size(last.card_size)}
                    </text>
                    <text x={LEFT - 6} y={y(last.used) + 4} textAnchor="end" fontSize="11" fill="var(--color-faded)">
                        {size(last.used)}
                    </text>
                    <polyline
                        fill="none"
                        stroke="var(--color-blueprint)"
                        strokeWidth="1.8"
                        points={points.map((point) => `${x(point.at).toFixed(1)},${y(point.used).toFixed(1)}`).join(" ")}
                    />
                    {points.map((point) => (
                        <circle key={point.at} cx={x(point.at)} cy={y(point.used)} r="3" fill="var(--color-blueprint)" />
                    ))}
                    <text x={LEFT} y={TALL - 6} fontSize="11" fill="var(--color-faded)">
                        {first.at.slice(0, 10)}
                    </text>
                    {until !== from && (
                        <text x={WIDE - 8} y={TALL - 6} textAnchor="end" fontSize="11" fill="var(--color-faded)">
                            {last.at.slice(0, 10)}
                        </text>
                    )}
                </svg>
                <figcaption className="text-xs text-faded">
                    in use at each backup, under the size of its card
                    {found.data?.full_at != null && <>; full on {found.data.full_at.slice(0, 10)} if it goes on so</>}
                </figcaption>
            </figure>
        </Sheet>
    );
}
