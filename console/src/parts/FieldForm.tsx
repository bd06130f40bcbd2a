// A form for fields of all kinds: those of a device, and those of a preset.
import { type ReactNode, useState } from "react";

import type { Setting } from "../api/client";
import { NetworkList } from "./NetworkList";
import { Button, FIELD } from "./ui";

/** What was typed, by field; null takes a value away. */
export type Typed = Record<string, string | null>;

export function FieldForm({
    owner,
    settings,
    problem,
    busy,
    save,
    children,
}: {
    owner: "device" | "preset";
    settings: Setting[];
    problem: (field: string) => string | undefined;
    busy: boolean;
    save: (typed: Typed, done: () => void) => void;
    children?: ReactNode;
}) {
    const [typed, setTyped] = useState<Typed>({});
    return (
        <form
            className="grid gap-3"
            onSubmit={(event) => {
                event.preventDefault();
                save(typed, () => {
                    setTyped({});
                });
            }}
        >
            {settings.map((setting) => (
                <FieldView
                    key={setting.name}
                    owner={owner}
                    setting={setting}
                    typed={typed[setting.name]}
                    problem={problem(setting.name)}
                    type={(value) => {
                        setTyped({ ...typed, [setting.name]: value });
                    }}
                />
            ))}
            <div className="flex items-center gap-3">
                <Button type="submit" look="main" disabled={Object.keys(typed).length === 0 || busy}>
                    Save
                </Button>
                {children}
            </div>
        </form>
    );
}

function hint(setting: Setting, owner: string): string {
    const kept = setting.secret && setting.value != null ? "; kept sealed, type to replace it" : "";
    if (setting.preset != null && owner === "device") return `from preset ${setting.preset}${kept}`;
    if (setting.origin === "release") return "default of the release";
    return kept === "" ? (setting.help ?? "") : kept.slice(2);
}

function FieldView({
    owner,
    setting,
    typed,
    problem,
    type,
}: {
    owner: "device" | "preset";
    setting: Setting;
    typed: string | null | undefined;
    problem: string | undefined;
    type: (value: string | null) => void;
}) {
    const set = typed !== undefined ? typed !== null : setting.value != null;
    const own = setting.origin === owner || typed !== undefined;
    return (
        <div className="grid items-start gap-x-3 gap-y-1 sm:grid-cols-[11rem_22rem_1fr] text-sm">
            <label htmlFor={`field-${setting.name}`} className="pt-1.5 font-semibold">
                {setting.label}
                {setting.required === true && <span className="text-faded"> *</span>}
            </label>
            <FieldInput setting={setting} typed={typed} type={type} />
            <div className="pt-1.5">
                <span className={problem === undefined ? "text-faded" : "text-oxide"}>{problem ?? hint(setting, owner)}</span>
                {set && own && (
                    <button
                        type="button"
                        className="ml-2 cursor-pointer text-blueprint underline"
                        onClick={() => {
                            type(null);
                        }}
                    >
                        clear
                    </button>
                )}
            </div>
        </div>
    );
}

/** A password of four groups of letters and digits that are not taken for each other. */
function strongPassword(): string {
    const clear = "abcdefghjkmnpqrstuvwxyz23456789";
    const letters = [...crypto.getRandomValues(new Uint8Array(16))].map((byte) => clear[byte % clear.length] ?? "");
    return [0, 4, 8, 12].map((at) => letters.slice(at, at + 4).join("")).join("-");
}

function FieldInput({
    setting,
    typed,
    type,
}: {
    setting: Setting;
    typed: string | null | undefined;
    type: (value: string | null) => void;
}) {
    const id = `field-${setting.name}`;
    const stored = setting.value ?? "";
    const shown = typed === undefined ? (setting.secret ? "" : stored) : (typed ?? "");
    const change = (event: { target: { value: string } }) => {
        type(event.target.value === "" ? null : event.target.value);
    };
    const choices = setting.kind === "yes-no" ? ["yes", "no"] : (setting.choices ?? []);
    if (choices.length > 0) {
        return (
            <select id={id} name={setting.name} value={shown} onChange={change} className={FIELD}>
                <option value="">not set</option>
                {choices.map((choice) => (
                    <option key={choice}>{choice}</option>
                ))}
            </select>
        );
    }
    if (setting.kind === "networks") return <NetworkList id={id} setting={setting} typed={typed} type={type} />;
    if (setting.kind === "list" || setting.kind === "ssh-keys") {
        return (
            <textarea
                id={id}
                name={setting.name}
                rows={3}
                value={shown}
                placeholder="one a line"
                onChange={change}
                className={`${FIELD} font-mono text-xs`}
            />
        );
    }
    const made = setting.kind === "login-password";
    return (
        <span className="flex gap-2">
            <input
                id={id}
                name={setting.name}
                type={setting.secret && !(made && typed != null) ? "password" : "text"}
                autoComplete="off"
                inputMode={setting.kind === "number" ? "decimal" : undefined}
                value={shown}
                placeholder={typed === null || stored === "" ? "not set" : stored}
                onChange={change}
                className={`${FIELD} min-w-0 flex-1`}
            />
            {made && (
                <Button
                    onClick={() => {
                        type(strongPassword());
                    }}
                >
                    Make one
                </Button>
            )}
        </span>
    );
}
