// The frame of what is planned and confirmed at a slot.
import { Dialog } from "radix-ui";
import { type ReactNode, useState } from "react";

import { Button } from "./ui";

export function BenchDialog({
    word,
    title,
    look = "plain",
    disabled,
    children,
}: {
    word: string;
    title: string;
    look?: "plain" | "main";
    disabled: boolean;
    children: ReactNode;
}) {
    const [open, setOpen] = useState(false);
    return (
        <Dialog.Root open={open} onOpenChange={setOpen}>
            <Dialog.Trigger asChild>
                <Button look={look} disabled={disabled}>
                    {word}
                </Button>
            </Dialog.Trigger>
            <Dialog.Portal>
                <Dialog.Overlay className="fixed inset-0 bg-black/40" />
                <Dialog.Content
                    aria-describedby={undefined}
                    onInteractOutside={(event) => {
                        event.preventDefault();
                    }}
                    className="fixed top-1/2 left-1/2 max-h-[92vh] min-h-[min(92vh,24rem)] w-[46rem] max-w-[95vw] -translate-x-1/2 -translate-y-1/2 overflow-y-auto rounded-sm border border-ink bg-sheet p-5"
                >
                    <Dialog.Title className="mb-3 text-lg font-semibold">{title}</Dialog.Title>
                    {open && children}
                    <Dialog.Close asChild>
                        <Button className="mt-4">Close</Button>
                    </Dialog.Close>
                </Dialog.Content>
            </Dialog.Portal>
        </Dialog.Root>
    );
}
