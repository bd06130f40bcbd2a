// Speeds of a card as numbers.
import type { Speed } from "../api/client";

/** Bytes a second over all parts. */
export function mean(speed: Speed): number {
    let before = 0;
    let seconds = 0;
    for (const [at, rate] of speed.points) {
        seconds += (at - before) / Math.max(1, rate);
        before = at;
    }
    return seconds > 0 ? before / seconds : 0;
}
