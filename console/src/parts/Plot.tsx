// Amounts along a time or a place: lines over levels whose figures stand at the left.
import type { ReactNode } from "react";

const WIDE = 640;
const TALL = 160;
const LEFT = 64;
const RIGHT = 8;
const TOP = 12;
const LOW = 22;
const QUIET = "var(--color-faded)";

export interface Line {
    name: string;
    color: string;
    points: [number, number][];
    /** Few points are drawn as dots too. */
    dots?: boolean;
    /** What stands below the plot for it; nothing where one line needs no name. */
    words?: ReactNode;
}

/** A figure at the left, with the line that belongs to it. */
export interface Level {
    at: number;
    words: string;
    line: "thin" | "limit" | "none";
}

/** None, half and all of what is drawn, in words. */
export function halves(most: number, words: (amount: number) => string): Level[] {
    return [0, most / 2, most].map((at) => ({ at, words: at === 0 ? "0" : words(at), line: "thin" }));
}

function Words({ x, y, end, children }: { x: number; y: number; end?: boolean; children: ReactNode }) {
    return (
        <text x={x} y={y} textAnchor={end === true ? "end" : "start"} fontSize="11" fill={QUIET}>
            {children}
        </text>
    );
}

export function Plot({
    label,
    lines,
    levels,
    from,
    ends,
    children,
}: {
    label: string;
    lines: Line[];
    levels: Level[];
    /** Where it begins, if before its first point. */
    from?: number;
    /** What stands at the left and at the right below it. */
    ends: [string | undefined, string | undefined];
    /** What else stands below it. */
    children?: ReactNode;
}) {
    const along = lines.flatMap((line) => line.points.map(([at]) => at));
    const first = from ?? Math.min(...along);
    const last = Math.max(...along);
    const amounts = lines.flatMap((line) => line.points.map(([, amount]) => amount));
    const most = Math.max(...levels.map((level) => level.at), ...amounts, 1);
    const wide = WIDE - LEFT - RIGHT;
    const x = (at: number) => LEFT + (last === first ? wide / 2 : (wide * (at - first)) / (last - first));
    const y = (amount: number) => TALL - LOW - ((TALL - LOW - TOP) * amount) / most;
    return (
        <figure className="grid gap-1">
            <svg viewBox={`0 0 ${String(WIDE)} ${String(TALL)}`} className="w-full max-w-2xl" role="img" aria-label={label}>
                {levels.map((level) => (
                    <g key={level.words}>
                        {level.line !== "none" && (
                            <line
                                x1={LEFT}
                                x2={WIDE - RIGHT}
                                y1={y(level.at)}
                                y2={y(level.at)}
                                stroke={level.line === "limit" ? "var(--color-oxide)" : "var(--color-line)"}
                                strokeDasharray={level.line === "limit" ? "4 4" : undefined}
                            />
                        )}
                        <Words x={LEFT - 6} y={y(level.at) + 4} end>
                            {level.words}
                        </Words>
                    </g>
                ))}
                {ends[0] !== undefined && (
                    <Words x={LEFT} y={TALL - 6}>
                        {ends[0]}
                    </Words>
                )}
                {ends[1] !== undefined && last !== first && (
                    <Words x={WIDE - RIGHT} y={TALL - 6} end>
                        {ends[1]}
                    </Words>
                )}
                {lines.map((line) => (
                    <g key={line.name}>
                        <polyline
                            fill="none"
                            stroke={line.color}
                            strokeWidth="1.8"
                            points={line.points.map(([at, amount]) => `${x(at).toFixed(1)},${y(amount).toFixed(1)}`).join(" ")}
                        />
                        {line.dots === true && line.points.map(([at, amount]) => <circle key={at} cx={x(at)} cy={y(amount)} r="2.8" fill={line.color} />)}
                    </g>
                ))}
            </svg>
            <figcaption className="flex flex-wrap gap-x-4 text-xs text-faded">
                {lines.map(
                    (line) =>
                        line.words !== undefined && (
                            <span key={line.name} className="inline-flex items-center gap-1.5">
                                <span aria-hidden className="inline-block h-0.5 w-5" style={{ background: line.color }} />
                                {line.words}
                            </span>
                        ),
                )}
                {children}
            </figcaption>
        </figure>
    );
}
