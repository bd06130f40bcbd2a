// Wi-Fi networks in order of preference. Passphrases are never shown; one left empty is kept.
import type { Setting } from "../api/client";
import { Button, FIELD } from "./ui";

interface Network {
    name: string;
    hidden: boolean;
    security: string;
    passphrase?: string;
}

export function NetworkList({
    id,
    setting,
    typed,
    type,
}: {
    id: string;
    setting: Setting;
    typed: string | null | undefined;
    type: (value: string | null) => void;
}) {
    const kept = setting.networks ?? [];
    const networks: Network[] =
        typed === undefined
            ? kept.map(({ name, hidden, security }) => ({ name, hidden, security }))
            : typed === null
              ? []
              : (JSON.parse(typed) as Network[]);
    const set = (list: Network[]) => {
        type(list.length === 0 ? null : JSON.stringify(list));
    };
    const change = (at: number, part: Partial<Network>) => {
        set(networks.map((one, place) => (place === at ? { ...one, ...part } : one)));
    };
    return (
        <div id={id} className="grid gap-2">
            {networks.map((network, at) => (
                <fieldset key={at} className="grid gap-1.5 border-l-2 border-line pl-2">
                    <legend className="sr-only">Network {at + 1}</legend>
                    <div className="flex gap-2">
                        <input
                            aria-label="Name of the network"
                            value={network.name}
                            onChange={(event) => {
                                change(at, { name: event.target.value });
                            }}
                            className={`${FIELD} min-w-0 flex-1`}
                        />
                        <select
                            aria-label="Security"
                            value={network.security}
                            onChange={(event) => {
                                change(at, { security: event.target.value });
                            }}
                            className={FIELD}
                        >
                            <option value="wpa2">WPA2</option>
                            <option value="wpa3">WPA3</option>
                            <option value="open">open</option>
                        </select>
                    </div>
                    {network.security !== "open" && (
                        <input
                            aria-label="Passphrase"
                            type="password"
                            autoComplete="off"
                            value={network.passphrase ?? ""}
                            placeholder={kept.some((one) => one.name === network.name) ? "kept sealed" : "passphrase"}
                            onChange={(event) => {
                                const passphrase = event.target.value;
                                change(at, { passphrase: passphrase === "" ? undefined : passphrase });
                            }}
                            className={FIELD}
                        />
                    )}
                    <div className="flex items-center gap-3">
                        <label className="flex items-center gap-1.5">
                            <input
                                type="checkbox"
                                checked={network.hidden}
                                onChange={(event) => {
                                    change(at, { hidden: event.target.checked });
                                }}
                            />
                            hidden
                        </label>
                        <span className="ml-auto" />
                        {at > 0 && (
                            <button
                                type="button"
                                className="cursor-pointer text-blueprint underline"
                                onClick={() => {
                                    const before = networks[at - 1];
                                    if (before === undefined) return;
                                    set(networks.map((one, place) => (place === at ? before : place === at - 1 ? network : one)));
                                }}
                            >
                                try earlier
                            </button>
                        )}
                        <button
                            type="button"
                            className="cursor-pointer text-blueprint underline"
                            onClick={() => {
                                set(networks.filter((_, place) => place !== at));
                            }}
                        >
                            remove
                        </button>
                    </div>
                </fieldset>
            ))}
            <div>
                <Button
                    onClick={() => {
                        set([...networks, { name: "", hidden: false, security: "wpa2" }]);
                    }}
                >
                    Add a network
                </Button>
            </div>
        </div>
    );
}
