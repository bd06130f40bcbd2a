// A button for what cannot be taken back: pressed once it says what it would do, pressed again it does it.
import { useState } from "react";

import { Button } from "./ui";

export function Twice({ label, sure, act, disabled }: { label: string; sure: string; act: () => void; disabled?: boolean }) {
    const [asked, setAsked] = useState(false);
    return (
        <Button
            look={asked ? "danger" : "plain"}
            disabled={disabled === true}
            onClick={() => {
                if (asked) act();
                setAsked(!asked);
            }}
            onBlur={() => {
                setAsked(false);
            }}
        >
            {asked ? sure : label}
        </Button>
    );
}
