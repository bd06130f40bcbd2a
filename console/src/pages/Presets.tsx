// Presets: the list, one preset with the devices that it touches, the networks on all cards.
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link, useNavigate, useParams } from "@tanstack/react-router";
import { type FormEvent, useState } from "react";

import {
    type CarriedNetwork,
    type Preset as PresetRow,
    type PresetDetail,
    type Setting,
    type Site,
    type Touched,
    get,
    patch,
    post,
    remove,
} from "../api/client";
import { FieldForm, type Typed } from "../parts/FieldForm";
import { Amount, Button, Empty, FIELD, Failure, Label, Notice, Page, Sheet, Table } from "../parts/ui";

export function Presets() {
    const presets = useQuery({ queryKey: ["presets"], queryFn: () => get<PresetRow[]>("presets") });
    const [adding, setAdding] = useState(false);
    return (
        <Page
            title="Presets"
            aside={
                <Button
                    onClick={() => {
                        setAdding(!adding);
                    }}
                >
                    Make a preset
                </Button>
            }
        >
            <p className="mb-3 text-sm text-faded">
                Values that several devices share. A device&rsquo;s own value counts before that of its site, its site&rsquo;s
                before that of the team, and the release&rsquo;s default last.
            </p>
            {adding && <NewPreset />}
            <Failure error={presets.error} />
            {presets.data?.length === 0 && <Empty>No preset yet. Make one for a site, and set its network there once.</Empty>}
            {presets.data !== undefined && presets.data.length > 0 && (
                <Table head={["preset", "for", "sets", "#devices"]}>
                    {presets.data.map((preset) => (
                        <tr key={preset.name}>
                            <td>
                                <Link to="/presets/$name" params={{ name: preset.name }} className="font-semibold text-blueprint underline">
                                    {preset.name}
                                </Link>{" "}
                                <span className="text-faded">{preset.title}</span>
                            </td>
                            <td>{preset.site ?? "the whole team"}</td>
                            <td>{preset.fields.join(", ")}</td>
                            <Amount>{preset.devices.length}</Amount>
                        </tr>
                    ))}
                </Table>
            )}
            <Networks />
        </Page>
    );
}

function NewPreset() {
    const navigate = useNavigate();
    const sites = useQuery({ queryKey: ["sites"], queryFn: () => get<Site[]>("sites") });
    const add = useMutation({
        mutationFn: (form: Record<string, string>) =>
            post<PresetDetail>("presets", { ...form, site: form["site"] === "" ? null : form["site"] }),
        onSuccess: (made) => navigate({ to: "/presets/$name", params: { name: made.preset.name } }),
    });
    return (
        <Sheet title="Make a preset">
            <form
                className="flex flex-wrap items-end gap-3 text-sm"
                onSubmit={(event: FormEvent<HTMLFormElement>) => {
                    event.preventDefault();
                    add.mutate(Object.fromEntries(new FormData(event.currentTarget)) as Record<string, string>);
                }}
            >
                <label className="grid gap-1">
                    Name
                    <input name="name" required className={FIELD} />
                </label>
                <label className="grid gap-1">
                    For
                    <select name="site" className={FIELD}>
                        <option value="">the whole team</option>
                        {(sites.data ?? []).map((site) => (
                            <option key={site.name} value={site.name}>
                                {site.title}
                            </option>
                        ))}
                    </select>
                </label>
                <label className="grid gap-1">
                    Title
                    <input name="title" className={FIELD} />
                </label>
                <Button type="submit" look="main" disabled={add.isPending}>
                    Make
                </Button>
            </form>
            <Failure error={add.error} />
        </Sheet>
    );
}

/** Which networks the cards of devices carry: what tells when an old passphrase can go. */
function Networks() {
    const networks = useQuery({ queryKey: ["networks"], queryFn: () => get<CarriedNetwork[]>("networks") });
    if (networks.data === undefined || networks.data.length === 0) return null;
    return (
        <section className="mt-6">
            <h2 className="mb-2 text-sm font-semibold text-faded">Wi-Fi networks, by passphrase</h2>
            <Table head={["network", "passphrase", "on the cards of", "set on"]}>
                {networks.data.map((one) => (
                    <tr key={`${one.name} ${one.fingerprint ?? ""}`}>
                        <td className="font-semibold">{one.name}</td>
                        <td className="font-mono text-xs">{one.fingerprint ?? "-"}</td>
                        <td>{one.devices.length === 0 ? "-" : one.devices.join(", ")}</td>
                        <td>{one.set_on.length === 0 ? "-" : one.set_on.join(", ")}</td>
                    </tr>
                ))}
            </Table>
        </section>
    );
}

export function Preset() {
    const { name } = useParams({ strict: false });
    const queries = useQueryClient();
    const navigate = useNavigate();
    const path = `presets/${encodeURIComponent(name ?? "")}`;
    const detail = useQuery({ queryKey: ["presets", name], queryFn: () => get<PresetDetail>(path) });
    const [sure, setSure] = useState(false);
    const [more, setMore] = useState<string[]>([]);
    const [asked, setAsked] = useState<{ typed: Typed; done: () => void; touches: Touched[] }>();
    const trial = useMutation({
        mutationFn: ({ typed }: { typed: Typed; done: () => void }) =>
            patch<PresetDetail>(`${path}/settings?dry_run=true`, { set: typed }),
        onSuccess: (after, given) => {
            setAsked({ ...given, touches: after.touches });
        },
    });
    const save = useMutation({
        mutationFn: (typed: Typed) => patch<PresetDetail>(`${path}/settings`, { set: typed }),
        onSuccess: async () => {
            asked?.done();
            setAsked(undefined);
            setMore([]);
            await queries.invalidateQueries();
        },
    });
    const gone = useMutation({
        mutationFn: () => remove(path),
        onSuccess: async () => {
            await queries.invalidateQueries();
            await navigate({ to: "/presets" });
        },
    });
    const data = detail.data;
    const shown: Setting[] = [...(data?.settings ?? []), ...(data?.unset ?? []).filter((one) => more.includes(one.name))];
    const left = (data?.unset ?? []).filter((one) => !more.includes(one.name));
    return (
        <Page
            title={`Preset ${name ?? ""}`}
            aside={
                <>
                    {data !== undefined && (
                        <span className="text-sm text-faded">
                            {data.preset.site == null ? "for the whole team" : `for devices on site ${data.preset.site}`}
                        </span>
                    )}
                    <Link to="/presets" className="text-sm font-semibold text-blueprint underline">
                        All presets
                    </Link>
                </>
            }
        >
            <Failure error={detail.error} />
            {data !== undefined && (
                <>
                    <Sheet title="Values">
                        <FieldForm
                            owner="preset"
                            settings={shown}
                            problem={() => undefined}
                            busy={trial.isPending || save.isPending}
                            save={(typed, done) => {
                                trial.mutate({ typed, done });
                            }}
                        >
                            <label className="ml-auto flex items-center gap-2 text-sm">
                                Another field
                                <select
                                    value=""
                                    className={FIELD}
                                    onChange={(event) => {
                                        setMore([...more, event.target.value]);
                                    }}
                                >
                                    <option value="">choose</option>
                                    {left.map((one) => (
                                        <option key={one.name} value={one.name}>
                                            {one.label}
                                        </option>
                                    ))}
                                </select>
                            </label>
                        </FieldForm>
                        <Failure error={trial.error ?? save.error} />
                    </Sheet>
                    {asked !== undefined && (
                        <Sheet title="What the change touches">
                            <TouchedTable touches={asked.touches} />
                            <div className="mt-3 flex gap-3">
                                <Button
                                    look="main"
                                    disabled={save.isPending}
                                    onClick={() => {
                                        save.mutate(asked.typed);
                                    }}
                                >
                                    Change it
                                </Button>
                                <Button
                                    onClick={() => {
                                        setAsked(undefined);
                                    }}
                                >
                                    Leave it
                                </Button>
                            </div>
                        </Sheet>
                    )}
                    {asked === undefined && (
                        <Sheet title="Devices that take values from it">
                            <TouchedTable touches={data.touches} />
                        </Sheet>
                    )}
                    <div className="flex items-center gap-3">
                        <Button
                            look={sure ? "danger" : "plain"}
                            disabled={gone.isPending}
                            onClick={() => {
                                if (sure || data.touches.length === 0) gone.mutate();
                                else setSure(true);
                            }}
                        >
                            {sure ? `Take it away from ${String(data.touches.length)} devices` : "Take the preset away"}
                        </Button>
                        {sure && (
                            <Button
                                onClick={() => {
                                    setSure(false);
                                }}
                            >
                                Keep it
                            </Button>
                        )}
                    </div>
                    <Failure error={gone.error} />
                </>
            )}
        </Page>
    );
}

function TouchedTable({ touches }: { touches: Touched[] }) {
    if (touches.length === 0) return <p className="text-sm text-faded">No device takes a value from it.</p>;
    const stale = touches.filter((one) => one.outdated.length > 0).length;
    return (
        <>
            {stale > 0 && (
                <Notice tone="ochre">
                    {stale === 1 ? "One card is" : `${String(stale)} cards are`} out of date with these values.
                </Notice>
            )}
            <Table head={["device", "card", "takes", ""]}>
                {touches.map((one) => (
                    <tr key={one.device}>
                        <td>
                            <Link to="/devices/$name" params={{ name: one.device }} className="font-semibold text-blueprint underline">
                                {one.device}
                            </Link>
                        </td>
                        <td>{one.card == null ? "-" : <Label>{one.card}</Label>}</td>
                        <td>{one.fields.join(", ")}</td>
                        <td>
                            {one.outdated.map((reason) => (
                                <p key={reason} className="text-ochre">
                                    {reason}
                                </p>
                            ))}
                            {one.problems.map((problem) => (
                                <p key={problem} className="text-oxide">
                                    {problem}
                                </p>
                            ))}
                        </td>
                    </tr>
                ))}
            </Table>
        </>
    );
}
