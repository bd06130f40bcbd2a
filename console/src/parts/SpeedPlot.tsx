// How fast a card was along its length: a worn or forged one shows here before it fails.
import type { Speed } from "../api/client";
import { Plot, halves } from "./Plot";
import { mean } from "./speed";
import { size } from "./text";

const COLORS: Record<string, string> = {
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
    return (
        <Plot
            label="Speed along the work"
            from={0}
            levels={halves(most, (rate) => `${size(rate)}/s`)}
            ends={[undefined, `after ${size(long)}`]}
            lines={shown.map((speed) => ({
                name: speed.stage,
                color: COLORS[speed.stage] ?? "var(--color-ink)",
                points: speed.points,
                words: `${speed.stage}, ${size(mean(speed))}/s on the whole`,
            }))}
        >
            <span>job {newest}</span>
        </Plot>
    );
}
