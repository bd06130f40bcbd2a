// A field that finds one of many by typing: devices, releases, backups.
import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { type KeyboardEvent, useId, useState } from "react";

import { FIELD } from "./ui";

/** What is found: its name, and what else tells it apart. */
export type FoundItem = [name: string, about: string];

export function Finder({
    label,
    value,
    choose,
    keyOf,
    find,
}: {
    label: string;
    value: string;
    choose: (name: string) => void;
    keyOf: string;
    find: (text: string) => Promise<FoundItem[]>;
}) {
    const id = useId();
    const [text, setText] = useState(value);
    const [open, setOpen] = useState(false);
    const [at, setAt] = useState(0);
    const found = useQuery({
        queryKey: [keyOf, "find", text === value ? "" : text],
        queryFn: () => find(text === value ? "" : text),
        placeholderData: keepPreviousData,
        enabled: open,
    });
    const items = found.data ?? [];
    const take = (name: string) => {
        setText(name);
        setOpen(false);
        choose(name);
    };
    const press = (event: KeyboardEvent) => {
        if (event.key === "ArrowDown" || event.key === "ArrowUp") {
            event.preventDefault();
            setOpen(true);
            const step = event.key === "ArrowDown" ? 1 : -1;
            setAt(Math.max(0, Math.min(items.length - 1, at + step)));
        } else if (event.key === "Enter" && open) {
            event.preventDefault();
            const item = items[at];
            if (item !== undefined) take(item[0]);
        } else if (event.key === "Escape" && open) {
            event.stopPropagation();
            setOpen(false);
        }
    };
    return (
        <div className="relative grid min-w-0 flex-1 gap-1 text-sm">
            <label htmlFor={id}>{label}</label>
            <input
                id={id}
                role="combobox"
                aria-expanded={open}
                aria-controls={`${id}-found`}
                aria-activedescendant={open && items.length > 0 ? `${id}-${String(at)}` : undefined}
                autoComplete="off"
                placeholder="type to find one"
                value={text}
                onChange={(event) => {
                    setText(event.target.value);
                    setOpen(true);
                    setAt(0);
                    if (value !== "") choose("");
                }}
                onFocus={() => {
                    setOpen(true);
                }}
                onBlur={() => {
                    setOpen(false);
                }}
                onKeyDown={press}
                className={FIELD}
            />
            <ul
                id={`${id}-found`}
                role="listbox"
                aria-label={label}
                hidden={!open}
                className="absolute top-full right-0 left-0 z-20 max-h-56 overflow-y-auto rounded-sm border border-ink bg-sheet"
            >
                {items.map(([name, about], place) => (
                    <li
                        key={name}
                        id={`${id}-${String(place)}`}
                        role="option"
                        aria-selected={place === at}
                        // The field keeps the focus, so that it is not left before the choice counts.
                        onMouseDown={(event) => {
                            event.preventDefault();
                        }}
                        onClick={() => {
                            take(name);
                        }}
                        className={`flex cursor-pointer flex-wrap gap-x-3 px-2 py-1.5 ${place === at ? "bg-paper text-blueprint" : ""}`}
                    >
                        <span className="font-semibold">{name}</span>
                        <span className="text-faded">{about}</span>
                    </li>
                ))}
                {found.data?.length === 0 && <li className="px-2 py-1.5 text-faded">Nothing is like that.</li>}
            </ul>
        </div>
    );
}
