// Presets: the list, one preset with the devices that it touches, the networks on all cards.
import { useInfiniteQuery, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link, useNavigate, useParams } from "@tanstack/react-router";
import { type FormEvent, useState } from "react";

import {
    type Names,
    type Page as PageOf,
    type Preset as PresetRow,
    type Setting,
    type Touched,
    get,
    patch,
    post,
    remove,
} from "../api/client";
import { filled } from "../parts/form";
import { FieldForm, type Typed } from "../parts/FieldForm";
import { FilterBar, ListTable, useFilters, useList } from "../parts/List";
import { Amount, Button, FIELD, Failure, Label, Notice, Page, Sheet, Table } from "../parts/ui";

export function Presets() {
    const [filters, change] = useFilters();
    const list = useList<PresetRow>("presets", filters);
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
            <FilterBar filters={filters} change={change} choices={[]} />
            <ListTable
                list={list}
                noun="preset"
                filters={filters}
                change={change}
                empty="No preset yet. Make one for a site, and set its network there once."
                columns={[["preset"], ["for"], ["sets"], ["#devices"]]}
                row={(preset) => (
                    <tr key={preset.name}>
                        <td>
                            <Link to="/presets/$name" params={{ name: preset.name }} className="font-semibold text-blueprint underline">
                                {preset.name}
                            </Link>{" "}
                            <span className="text-faded">{preset.title}</span>
                        </td>
                        <td>{preset.site ?? "the whole team"}</td>
                        <td>{preset.fields.join(", ")}</td>
                        <Amount>{preset.devices}</Amount>
                    </tr>
                )}
            />
            <Networks />
        </Page>
    );
}

function NewPreset() {
    const navigate = useNavigate();
    const sites = useQuery({ queryKey: ["sites"], queryFn: () => get("sites") });
    const add = useMutation({
        mutationFn: (form: { name: string; title: string; site: string }) =>
            post("presets", { ...form, site: form.site === "" ? null : form.site }),
        onSuccess: (made) => navigate({ to: "/presets/$name", params: { name: made.preset.name } }),
    });
    return (
        <Sheet title="Make a preset">
            <form
                className="flex flex-wrap items-end gap-3 text-sm"
                onSubmit={(event: FormEvent<HTMLFormElement>) => {
                    event.preventDefault();
                    add.mutate(filled(event.currentTarget, ["name", "title", "site"]));
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
    const networks = useQuery({ queryKey: ["networks"], queryFn: () => get("networks") });
    if (networks.data === undefined || networks.data.length === 0) return null;
    const unknown = networks.data[0]?.not_known;
    return (
        <section className="mt-6">
            <h2 className="mb-2 text-sm font-semibold text-faded">Wi-Fi networks, by passphrase</h2>
            <Table head={["network", "passphrase", "on the cards of", "set on"]}>
                {networks.data.map((one) => (
                    <tr key={`${one.name} ${one.fingerprint ?? ""}`}>
                        <td className="font-semibold">{one.name}</td>
                        <td className="font-mono text-xs">{one.fingerprint ?? "-"}</td>
                        <td>{listed(one.devices)}</td>
                        <td>{listed(one.set_on)}</td>
                    </tr>
                ))}
            </Table>
            {unknown !== undefined && unknown.total > 0 && (
                <p className="mt-2 text-sm text-ochre">Not known what is on the cards of: {listed(unknown)}.</p>
            )}
        </section>
    );
}

/** A few names, and how many more there are. */
function listed(some: Names): string {
    if (some.total === 0) return "-";
    const more = some.total - some.names.length;
    return more > 0 ? `${some.names.join(", ")} and ${String(more)} more` : some.names.join(", ");
}

export function Preset() {
    const { name } = useParams({ strict: false });
    const queries = useQueryClient();
    const navigate = useNavigate();
    const path = `presets/${encodeURIComponent(name ?? "")}` as const;
    const detail = useQuery({ queryKey: ["presets", name], queryFn: () => get(path) });
    const [sure, setSure] = useState(false);
    const [more, setMore] = useState<string[]>([]);
    const [asked, setAsked] = useState<{ typed: Typed; done: () => void; touches: PageOf<Touched> }>();
    const trial = useMutation({
        mutationFn: ({ typed }: { typed: Typed; done: () => void }) =>
            patch(`${path}/settings?dry_run=true`, { set: typed }),
        onSuccess: (after, given) => {
            setAsked({ ...given, touches: after.touches });
        },
    });
    const save = useMutation({
        mutationFn: (typed: Typed) => patch(`${path}/settings`, { set: typed }),
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
                            <Takers preset={data.preset.name} />
                        </Sheet>
                    )}
                    <Rename preset={data.preset} />
                    <div className="flex items-center gap-3">
                        <Button
                            look={sure ? "danger" : "plain"}
                            disabled={gone.isPending}
                            onClick={() => {
                                if (sure || data.touches.total === 0) gone.mutate();
                                else setSure(true);
                            }}
                        >
                            {sure ? `Take it away from ${String(data.touches.total)} devices` : "Take the preset away"}
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

/** Another name or title. */
function Rename({ preset }: { preset: PresetRow }) {
    const queries = useQueryClient();
    const navigate = useNavigate();
    const save = useMutation({
        mutationFn: (form: Record<string, string>) => patch(`presets/${encodeURIComponent(preset.name)}`, form),
        onSuccess: async (fresh) => {
            queries.setQueryData(["presets", fresh.preset.name], fresh);
            await navigate({ to: "/presets/$name", params: { name: fresh.preset.name } });
        },
    });
    return (
        <Sheet title="Name and title">
            <form
                className="flex flex-wrap items-end gap-3 text-sm"
                onSubmit={(event: FormEvent<HTMLFormElement>) => {
                    event.preventDefault();
                    save.mutate(Object.fromEntries(new FormData(event.currentTarget)) as Record<string, string>);
                }}
            >
                <label className="grid gap-1">
                    Name
                    <input name="name" required defaultValue={preset.name} className={FIELD} />
                </label>
                <label className="grid gap-1">
                    Title
                    <input name="title" defaultValue={preset.title} className={FIELD} />
                </label>
                <Button type="submit" disabled={save.isPending}>
                    Rename
                </Button>
            </form>
            <Failure error={save.error} />
        </Sheet>
    );
}

/** The devices of a preset, as many pages of them as were asked for. */
function Takers({ preset }: { preset: string }) {
    const list = useInfiniteQuery({
        queryKey: ["presets", preset, "touches"],
        initialPageParam: "",
        queryFn: ({ pageParam }) =>
            get(`presets/${encodeURIComponent(preset)}/touches?after=${encodeURIComponent(pageParam)}`),
        getNextPageParam: (page) => page.next ?? undefined,
    });
    const [first] = list.data?.pages ?? [];
    if (first === undefined) return <Failure error={list.error} />;
    const rows = (list.data?.pages ?? []).flatMap((page) => page.items);
    return (
        <>
            <TouchedTable touches={{ ...first, items: rows }} />
            {list.hasNextPage && (
                <Button
                    className="mt-2"
                    disabled={list.isFetchingNextPage}
                    onClick={() => {
                        void list.fetchNextPage();
                    }}
                >
                    Show more
                </Button>
            )}
        </>
    );
}

function TouchedTable({ touches }: { touches: PageOf<Touched> }) {
    const rows = touches.items;
    if (touches.total === 0) return <p className="text-sm text-faded">No device takes a value from it.</p>;
    const stale = rows.filter((one) => one.standing !== "up to date" && one.card != null).length;
    const left = touches.total - rows.length;
    return (
        <>
            {stale > 0 && (
                <Notice tone="ochre">
                    {stale === 1 ? "One card is" : `${String(stale)} cards are`} out of date with these values
                    {left > 0 && `, of the ${String(rows.length)} devices that are shown`}.
                </Notice>
            )}
            <Table head={["device", "card", "takes", "standing, or what is wrong"]}>
                {rows.map((one) => (
                    <tr key={one.device}>
                        <td>
                            <Link to="/devices/$name" params={{ name: one.device }} className="font-semibold text-blueprint underline">
                                {one.device}
                            </Link>
                        </td>
                        <td>{one.card == null ? "-" : <Label>{one.card}</Label>}</td>
                        <td>{one.fields.join(", ")}</td>
                        <td>
                            {(one.card == null ? [] : one.reasons).map((reason) => (
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
            {left > 0 && <p className="mt-2 text-sm text-faded">{left} more devices take values from it.</p>}
        </>
    );
}
