// How fast a card was along its length: a worn or forged one shows here before it fails.
import type { Speed } from "../api/client";
import { mean } from "./speed";
import { size } from "./text";

const WIDE = 640;
const TALL = 150;
const LEFT = 64;
const LOW = 22;

const LINES: Record<string, string> = {
    writing: "var(--color-blueprint)",
    verifying: "var(--color-moss)",
    reading: "var(--color-moss)",
    checking: "var(--color-ochre)",
};

export function SpeedPlot({ speeds }: { speeds: Speed[] }) {
    const newest = speeds[0]?.job;
    const shown = speeds.filter((speed) => speed.job === newest && speed.points.length > 1);
    if (shown.length === 0) return <p className="text-sm text-faded">Not known yet: it is seen while the card is written.</p>;
    const most = Math.max(...shown.flatMap((speed) => speed.points.map((point) => point[1])));
    const long = Math.max(...shown.flatMap((speed) => speed.points.map((point) => point[0])));
    const x = (at: number) => LEFT + ((WIDE - LEFT - 8) * at) / long;
    const y = (rate: number) => TALL - LOW - ((TALL - LOW - 10) * rate) / most;
    return (
        <figure className="grid gap-1">
            <svg viewBox={`0 0 ${String(WIDE)} ${String(TALL)}`} className="w-full max-w-2xl" role="img" aria-label="Speed along the work">
                {[0, 0.5, 1].map((part) => (
                    <g key={part}>
                        <line x1={LEFT} x2={WIDE - 8} y1={y(most * part)} y2={y(most * part)} stroke="var(--color-line)" />
                        <text x={LEFT - 6} y={y(most * part) + 4} textAnchor="end" fontSize="11" fill="var(--color-faded)">
                            {part === 0 ? "0" : `${size(most * part)}/s`}
                        </text>
                    </g>
                ))}
                <text x={WIDE - 8} y={TALL - 6} textAnchor="end" fontSize="11" fill="var(--color-faded)">
                    after {size(long)}
                </text>
                {shown.map((speed) => (
                    <polyline
                        key={speed.stage}
                        fill="none"
                        stroke={LINES[speed.stage] ?? "var(--color-ink)"}
                        strokeWidth="1.8"
                        points={speed.points.map(([at, rate]) => `${x(at).toFixed(1)},${y(rate).toFixed(1)}`).join(" ")}
                    />
                ))}
            </svg>
            <figcaption className="flex flex-wrap gap-x-4 text-xs text-faded">
                {shown.map((speed) => (
                    <span key={speed.stage} className="inline-flex items-center gap-1.5">
                        <span aria-hidden className="inline-block h-0.5 w-5" style={{ background: LINES[speed.stage] ?? "var(--color-ink)" }} />
                        {speed.stage}, {size(mean(speed))}/s on the whole
                    </span>
                ))}
                <span>
                    job {newest}
                </span>
            </figcaption>
        </figure>
    );
}
