// How sizes, times and spans are said.
import { useSyncExternalStore } from "react";

export function size(bytes: number): string {
    if (bytes >= 1e9) return `${(bytes / 1e9).toFixed(2)} GB`;
    if (bytes >= 1e6) return `${(bytes / 1e6).toFixed(1)} MB`;
    if (bytes >= 1e3) return `${(bytes / 1e3).toFixed(1)} kB`;
    return `${String(bytes)} B`;
}

export function span(seconds: number): string {
    const whole = Math.ceil(seconds);
    if (whole < 60) return `${String(whole)} s`;
    const minutes = Math.floor(whole / 60);
    return `${String(minutes)}:${String(whole % 60).padStart(2, "0")} min`;
}

export function Size({ bytes }: { bytes: number }) {
    return <span title={`${bytes.toLocaleString("en")} bytes`}>{size(bytes)}</span>;
}

const STEPS: [number, Intl.RelativeTimeFormatUnit][] = [
    [60, "second"],
    [3600, "minute"],
    [86400, "hour"],
    [Infinity, "day"],
];
const PER: Record<string, number> = { second: 1, minute: 60, hour: 3600, day: 86400 };
const words = new Intl.RelativeTimeFormat("en", { numeric: "auto" });

// One clock for all relative times, so that they grow older together.
let now = Date.now();
const watchers = new Set<() => void>();
setInterval(() => {
    now = Date.now();
    watchers.forEach((tell) => {
        tell();
    });
}, 5000);

function watch(tell: () => void) {
    watchers.add(tell);
    return () => {
        watchers.delete(tell);
    };
}

/** Seconds between two looks at the clock at most, with some for clocks that differ. */
const TICK = 120;

export function When({ at }: { at: string | null | undefined }) {
    const clock = useSyncExternalStore(watch, () => now);
    if (at == null) return <span>-</span>;
    const ahead = (new Date(at).getTime() - clock) / 1000;
    // Something newer than the last tick is not in the future; what ends some day is.
    const seconds = ahead < TICK ? Math.min(0, ahead) : ahead;
    const unit = (STEPS.find(([limit]) => Math.abs(seconds) < limit) ?? [0, "day" as const])[1];
    return (
        <time dateTime={at} title={new Date(at).toLocaleString("en-GB")}>
            {words.format(Math.round(seconds / (PER[unit] ?? 1)), unit)}
        </time>
    );
}
