// What a slot is called: its number, or at another bench "loft:2".
import type { Slot } from "../api/client";

export type SlotName = Slot["name"];

/** As it stands in a sentence, behind the word slot. */
export function slotWords(slot: SlotName): string {
    if (typeof slot === "number") return String(slot);
    const [bench, number] = slot.split(":");
    return `${number ?? ""} of ${bench ?? ""}`;
}

/** As a part of a path. */
export const slotPath = (slot: SlotName): string => encodeURIComponent(String(slot));
