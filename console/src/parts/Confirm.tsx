// A plan is confirmed by the label on the card's sticker, which no habit types.
import { useState } from "react";

import { Button } from "./ui";

export function ConfirmByLabel({
    word,
    disabled,
    confirm,
}: {
    word: string;
    disabled: boolean;
    confirm: (label: string) => void;
}) {
    const [label, setLabel] = useState("");
    return (
        <form
            className="flex flex-wrap items-end gap-3"
            onSubmit={(event) => {
                event.preventDefault();
                confirm(label.trim());
            }}
        >
            <label className="grid gap-1 text-sm">
                Label on the card&apos;s sticker
                <input
                    value={label}
                    autoComplete="off"
                    placeholder="C-0000"
                    onChange={(event) => {
                        setLabel(event.target.value);
                    }}
                    className="w-40 rounded-sm border border-line bg-paper px-2 py-1.5 font-mono"
                />
            </label>
            <Button type="submit" look="danger" disabled={label.trim() === "" || disabled}>
                {word}
            </Button>
        </form>
    );
}
