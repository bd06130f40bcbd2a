// A lamp pattern as it looks on the board, drawn: lit parts of a row in their lengths.
import type { Lamp as LampRow } from "../api/client";

const HEIGHT = 14;
const UNIT = 12;

/** Where each lit part begins and how long it is, in units, and the length of all. */
function parts(pattern: string): { lit: [number, number][]; all: number } {
    if (pattern === "dark") return { lit: [], all: 10 };
    if (pattern === "steady") return { lit: [[0, 10]], all: 10 };
    const lit: [number, number][] = [];
    let at = 0;
    for (const part of pattern.split(",")) {
        const long = part === "long" ? 3 : 1;
        lit.push([at, long]);
        at += long + 1;
    }
    return { lit, all: Math.max(10, at + 1) };
}

/** The pattern in words, as one would say it to somebody. */
function inWords(pattern: string): string {
    return pattern.split(",").join(" ");
}

export function LampPattern({ pattern }: { pattern: string }) {
    const { lit, all } = parts(pattern);
    return (
        <svg role="img" aria-label={inWords(pattern)} width={all * UNIT} height={HEIGHT} viewBox={`0 0 ${String(all * UNIT)} ${String(HEIGHT)}`}>
            <rect x="0.5" y="0.5" width={all * UNIT - 1} height={HEIGHT - 1} rx="3" className="fill-paper stroke-line" />
            {lit.map(([at, long]) => (
                <rect key={at} x={at * UNIT + 2} y="3" width={long * UNIT - 4} height={HEIGHT - 6} rx="2" className="fill-ochre" />
            ))}
        </svg>
    );
}

/** What its lamp does, asked of whoever stands before the board. */
export function LampQuestion({
    lamps,
    chosen,
    disabled,
    choose,
}: {
    lamps: LampRow[];
    chosen: string | null | undefined;
    disabled: boolean;
    choose: (pattern: string) => void;
}) {
    if (lamps.length === 0) return null;
    return (
        <fieldset className="grid gap-1 text-sm">
            <legend className="mb-1">What does its lamp do?</legend>
            {lamps.map((lamp) => (
                <label
                    key={lamp.pattern}
                    className={`flex min-h-11 cursor-pointer flex-wrap items-center gap-x-3 gap-y-1 rounded-sm border px-3 py-2 ${chosen === lamp.pattern ? "border-blueprint" : "border-line"}`}
                >
                    <input
                        type="radio"
                        name="lamp"
                        checked={chosen === lamp.pattern}
                        disabled={disabled}
                        onChange={() => {
                            choose(lamp.pattern);
                        }}
                    />
                    <LampPattern pattern={lamp.pattern} />
                    <span className="font-semibold">{inWords(lamp.pattern)}</span>
                    <span className="text-faded">{lamp.means}</span>
                </label>
            ))}
        </fieldset>
    );
}
