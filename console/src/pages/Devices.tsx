// Devices: the list, one device with its settings, registering one.
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link, useNavigate, useParams } from "@tanstack/react-router";
import { type FormEvent, useState } from "react";

import {
    type Device as DeviceRow,
    type DeviceDetail,
    get,
    patch,
    post,
    put,
    remove,
    type Standing,
} from "../api/client";
import { Field } from "../parts/Field";
import { Headroom } from "../parts/Headroom";
import { InTheField, Outed } from "../parts/Hands";
import { FieldForm, type Typed } from "../parts/FieldForm";
import { filled } from "../parts/form";
import { ImprintView } from "../parts/ImprintView";
import { FilterBar, ListTable, useFilters, useList } from "../parts/List";
import { Preview } from "../parts/Preview";
import { Button, FIELD, Facts, Failure, Label, Notice, Page, Sheet, State, Table } from "../parts/ui";

const STATES = ["planned", "carded", "in service", "down", "retired"];
const STANDINGS: [string, string][] = [
    ["to write", "card must be written again"],
    ...(
        [
            "up to date",
            "settings changed",
            "outdated",
            "newer than target",
            "withdrawn",
            "not booting",
            "incomplete",
            "unknown version",
            "not known",
            "no card",
            "no release",
        ] satisfies Standing[]
    ).map((one): [string, string] => [one, one]),
];

export function Devices() {
    const [filters, change] = useFilters();
    const boards = useQuery({ queryKey: ["boards"], queryFn: () => get("boards") });
    const sites = useQuery({ queryKey: ["sites"], queryFn: () => get("sites") });
    const lines = useQuery({ queryKey: ["catalogue"], queryFn: () => get("catalogue") });
    const appliances = [...new Set((lines.data ?? []).map((line) => line.appliance))];
    const releases = (lines.data ?? []).flatMap((line) => line.releases.map((release) => release.name));
    const list = useList<DeviceRow>("devices", filters);
    const [adding, setAdding] = useState(false);
    const [table, setTable] = useState(false);
    const same = (words: string[]): [string, string][] => words.map((one) => [one, one]);
    return (
        <Page
            title="Devices"
            aside={
                <>
                    {list.data !== undefined && (list.data.pages[0]?.total ?? 0) > 0 && (
                        <Link to="/rounds" search={filters as never} className="text-sm font-semibold text-blueprint underline">
                            Make a round of these
                        </Link>
                    )}
                    <Link to="/presets" className="text-sm font-semibold text-blueprint underline">
                        Presets
                    </Link>
                    <Button
                        onClick={() => {
                            setTable(!table);
                        }}
                    >
                        Table
                    </Button>
                    <Button
                        onClick={() => {
                            setAdding(!adding);
                        }}
                    >
                        Register a device
                    </Button>
                </>
            }
        >
            {table && <DeviceTable />}
            {adding && (
                <NewDevice
                    done={() => {
                        setAdding(false);
                    }}
                />
            )}
            <FilterBar
                filters={filters}
                change={change}
                choices={[
                    ["Standing", "standing", STANDINGS],
                    ["Site", "site", (sites.data ?? []).map((one) => [one.name, one.title])],
                    ["Appliance", "appliance", same(appliances)],
                    ["Board", "board", (boards.data ?? []).map((one) => [one.name, one.title])],
                    ["State", "state", same(STATES)],
                    ["Carries", "carries", same(releases)],
                ]}
            />
            <ListTable
                list={list}
                noun="device"
                filters={filters}
                change={change}
                empty="No device yet. Register the first one, then set its values."
                columns={[
                    ["device", "name"],
                    ["state", "state"],
                    ["appliance", "appliance"],
                    ["board", "board"],
                    ["site", "site"],
                    ["host name"],
                    ["card", "card"],
                    ["carries"],
                    ["standing"],
                ]}
                row={(device) => (
                    <tr key={device.name}>
                        <td>
                            <Link to="/devices/$name" params={{ name: device.name }} className="font-semibold text-blueprint underline">
                                {device.name}
                            </Link>
                        </td>
                        <td>
                            <State name={device.state} />
                        </td>
                        <td>
                            {device.appliance} {device.variant}
                        </td>
                        <td>{device.board}</td>
                        <td>{device.site}</td>
                        <td>{device.host_name ?? "-"}</td>
                        <td>
                            {device.card == null ? "-" : <Label>{device.card}</Label>}
                            {device.card != null && device.card_state !== "verified" && (
                                <>
                                    {" "}
                                    <State name={device.card_state ?? "incomplete"} />
                                </>
                            )}
                        </td>
                        <td>
                            {device.updated_to ?? device.carries ?? "-"}
                            {device.updated_to != null && <span className="text-faded"> updated in place</span>}
                        </td>
                        <td>
                            <State name={device.standing} />
                            {device.card != null &&
                                (device.reasons ?? []).map((reason) => (
                                    <p key={reason} className="text-xs text-faded">
                                        {reason}
                                    </p>
                                ))}
                        </td>
                    </tr>
                )}
            />
        </Page>
    );
}

/** All devices as a table for other programs, and in again: all of it or nothing. */
function DeviceTable() {
    const queries = useQueryClient();
    const [file, setFile] = useState<File>();
    const send = useMutation({
        mutationFn: (dry: boolean) =>
            post(`device-table?dry_run=${String(dry)}`, new Blob([file ?? ""], { type: "text/csv" })),
        onSuccess: async (report) => {
            if (report.done) await queries.invalidateQueries();
        },
    });
    const report = send.data;
    return (
        <Sheet title="Devices as a table">
            <div className="flex flex-wrap items-center gap-3 text-sm">
                <a href="/api/v1/device-table" download="devices.csv" className="font-semibold text-blueprint underline">
                    Write it out
                </a>
                <label className="flex items-center gap-2">
                    Take one over
                    <input
                        type="file"
                        name="table"
                        className={FIELD}
                        onChange={(event) => {
                            setFile(event.target.files?.[0]);
                            send.reset();
                        }}
                    />
                </label>
                <Button
                    disabled={file === undefined || send.isPending}
                    onClick={() => {
                        send.mutate(true);
                    }}
                >
                    Check it
                </Button>
                <Button
                    look="main"
                    disabled={report === undefined || report.done || report.problems.length > 0 || send.isPending}
                    onClick={() => {
                        send.mutate(false);
                    }}
                >
                    Take it over
                </Button>
            </div>
            <p className="mt-2 text-sm text-faded">Secrets are not written out and not taken in: they belong into a preset.</p>
            <Failure error={send.error} />
            {report !== undefined && (
                <div className="mt-3 grid gap-1 text-sm">
                    <Notice tone={report.problems.length > 0 ? "ochre" : "moss"}>
                        {report.problems.length > 0
                            ? `Nothing is taken over: ${String(report.wrong ?? 0)} of ${String(report.rows)} rows have problems.`
                            : `${String(report.rows)} rows${report.done ? " taken over" : ""}: ${String(report.new.length)} new, ${String(report.changed.length)} changed.`}
                    </Notice>
                    {report.problems.map((one) => (
                        <p key={`${String(one.line)} ${one.column} ${one.problem}`}>
                            <span className="text-faded">
                                line {one.line} {one.column}
                            </span>{" "}
                            {one.problem}
                        </p>
                    ))}
                </div>
            )}
        </Sheet>
    );
}

function NewDevice({ done }: { done: () => void }) {
    const queries = useQueryClient();
    const boards = useQuery({ queryKey: ["boards"], queryFn: () => get("boards") });
    const sites = useQuery({ queryKey: ["sites"], queryFn: () => get("sites") });
    const releases = useQuery({ queryKey: ["releases"], queryFn: () => get("releases") });
    const add = useMutation({
        mutationFn: (form: { name: string; board: string; appliance: string; site: string }) => post("devices", form),
        onSuccess: async () => {
            await queries.invalidateQueries({ queryKey: ["devices"] });
            done();
        },
    });
    const appliances = [...new Set((releases.data ?? []).map((release) => release.appliance))];
    const choices: [string, string, [string, string][]][] = [
        ["board", "Board model", (boards.data ?? []).map((one) => [one.name, one.title])],
        ["appliance", "Appliance", appliances.map((one) => [one, one])],
        ["site", "Site", (sites.data ?? []).map((one) => [one.name, one.title])],
    ];
    return (
        <Sheet title="Register a device">
            <form
                className="flex flex-wrap items-end gap-3 text-sm"
                onSubmit={(event: FormEvent<HTMLFormElement>) => {
                    event.preventDefault();
                    add.mutate(filled(event.currentTarget, ["name", "board", "appliance", "site"]));
                }}
            >
                <label className="grid gap-1">
                    Name
                    <input name="name" required className={FIELD} />
                </label>
                {choices.map(([name, text, options]) => (
                    <label key={name} className="grid gap-1">
                        {text}
                        <select name={name} required className={FIELD}>
                            {options.map(([value, shown]) => (
                                <option key={value} value={value}>
                                    {shown}
                                </option>
                            ))}
                        </select>
                    </label>
                ))}
                <Button type="submit" look="main" disabled={add.isPending}>
                    Register
                </Button>
            </form>
            <Failure error={add.error} />
        </Sheet>
    );
}

export function Device() {
    const { name } = useParams({ strict: false });
    const detail = useQuery({
        queryKey: ["devices", name],
        queryFn: () => get(`devices/${encodeURIComponent(name ?? "")}`),
    });
    const down = useQuery({ queryKey: ["outages"], queryFn: () => get("outages") });
    const outage = down.data?.find((one) => one.device === name);
    const data = detail.data;
    return (
        <Page title={name ?? ""} aside={data !== undefined && <State name={data.device.state} />}>
            <Failure error={detail.error} />
            {data !== undefined && (
                <>
                    <Sheet>
                        <Facts
                            rows={[
                                ["appliance", data.device.appliance],
                                ["board", data.device.board],
                                ["site", data.device.site],
                                ["release", data.release ?? "none in the catalogue suits it"],
                                ["card", data.device.card == null ? "none" : <Label key="card">{data.device.card}</Label>],
                                ["standing", <State key="standing" name={data.device.standing} />],
                            ]}
                        />
                    </Sheet>
                    {outage !== undefined && (
                        <div className="mb-5">
                            <Outed outage={outage} />
                        </div>
                    )}
                    <Sheet title="In the field">
                        <Field device={data.device} />
                        <InTheField device={data.device.name} down={outage !== undefined} />
                    </Sheet>
                    <Headroom device={data.device.name} />
                    {data.device.card != null && (data.device.reasons ?? []).length > 0 && (
                        <div className="mb-5">
                            <Notice tone="ochre">
                                {(data.device.reasons ?? []).map((reason) => (
                                    <p key={reason}>{reason}</p>
                                ))}
                            </Notice>
                        </div>
                    )}
                    {(data.open_logins ?? []).map((login) => (
                        <div key={login} className="mb-5">
                            <Notice tone="ochre">{login}</Notice>
                        </div>
                    ))}
                    <Settings detail={data} />
                    <Preview device={data.device.name} />
                    <About detail={data} />
                    <Choices device={data.device.name} pinned={data.device.pinned ?? undefined} />
                    <Place device={data.device} />
                    <Sheet title="Imprints">
                        {data.imprints.length === 0 && <p className="text-sm text-faded">No card was made for it yet.</p>}
                        {data.imprints.map((imprint) => (
                            <ImprintView key={imprint.id} imprint={imprint} />
                        ))}
                    </Sheet>
                </>
            )}
        </Page>
    );
}

/** Which releases the device could get, which one it follows, and why others do not suit it. */
function Choices({ device, pinned }: { device: string; pinned: string | undefined }) {
    const queries = useQueryClient();
    const path = `devices/${encodeURIComponent(device)}` as const;
    const choices = useQuery({ queryKey: ["choices", device], queryFn: () => get(`${path}/choices`) });
    const follow = useMutation({
        mutationFn: (release: string | null) => put(`${path}/following`, { pinned: release }),
        onSuccess: () => queries.invalidateQueries(),
    });
    return (
        <Sheet title="Releases it could get">
            <p className="mb-2 flex items-center gap-3 text-sm">
                {pinned === undefined ? "It follows what is current." : `It stays with ${pinned}, whatever is current.`}
                {pinned !== undefined && (
                    <Button
                        onClick={() => {
                            follow.mutate(null);
                        }}
                    >
                        Follow what is current
                    </Button>
                )}
            </p>
            <Failure error={follow.error ?? choices.error} />
            <Table head={["release", "state", "suits", "why", "to follow"]}>
                {(choices.data ?? []).map((choice) => (
                    <tr key={choice.release} className={choice.fits ? "" : "text-faded"}>
                        <td className="whitespace-nowrap">
                            <Link to="/catalogue/$name" params={{ name: choice.release }} className="font-semibold text-blueprint underline">
                                {choice.release}
                            </Link>
                            {choice.current && <span className="ml-2 text-moss">current</span>}
                            {choice.followed && <span className="ml-2 text-blueprint">followed</span>}
                        </td>
                        <td>
                            <State name={choice.state} />
                        </td>
                        <td>
                            <State name={choice.fits ? "fits" : "does not fit"} />
                        </td>
                        <td>{choice.reasons.join("; ")}</td>
                        <td className="text-right whitespace-nowrap">
                            {choice.fits && choice.release !== pinned && (
                                <Button
                                    onClick={() => {
                                        follow.mutate(choice.release);
                                    }}
                                >
                                    Stay with it
                                </Button>
                            )}
                        </td>
                    </tr>
                ))}
            </Table>
        </Sheet>
    );
}

function Settings({ detail }: { detail: DeviceDetail }) {
    const queries = useQueryClient();
    const { name } = detail.device;
    const save = useMutation({
        mutationFn: ({ typed }: { typed: Typed; done: () => void }) =>
            patch(`devices/${encodeURIComponent(name)}/settings`, { set: typed }),
        onSuccess: async (fresh, { done }) => {
            queries.setQueryData(["devices", name], fresh);
            done();
            await queries.invalidateQueries({ queryKey: ["devices", name, "preview"] });
        },
    });
    return (
        <Sheet title="Settings">
            <FieldForm
                owner="device"
                settings={detail.settings.filter((one) => one.applies === true)}
                problem={(field) => detail.problems.find((one) => one.field === field)?.rule}
                busy={save.isPending}
                save={(typed, done) => {
                    save.mutate({ typed, done });
                }}
            />
            <Failure error={save.error} />
            {save.isSuccess && <Notice tone="moss">Saved. Cards that were written before keep their old values.</Notice>}
        </Sheet>
    );
}

/** What is told about a device: what is plugged in, hardware addresses, notes. */
function About({ detail }: { detail: DeviceDetail }) {
    const queries = useQueryClient();
    const { device } = detail;
    const [open, setOpen] = useState(false);
    const save = useMutation({
        mutationFn: (form: Record<string, string>) => {
            const items = (text: string | undefined) => (text ?? "").split(";").filter((one) => one.trim() !== "");
            const change = { notes: form["notes"], attached: items(form["attached"]), macs: items(form["macs"]) };
            return patch(`devices/${encodeURIComponent(device.name)}`, change);
        },
        onSuccess: (fresh) => {
            queries.setQueryData(["devices", device.name], fresh);
            setOpen(false);
        },
    });
    const rows: [string, string, string][] = [
        ["attached", "Attached hardware", (device.attached ?? []).join("; ")],
        ["macs", "Hardware addresses", (device.macs ?? []).join("; ")],
        ["notes", "Notes", device.notes],
    ];
    return (
        <Sheet title="About it">
            {!open && (
                <>
                    <Facts rows={rows.map(([, title, value]) => [title, value === "" ? "-" : value])} />
                    <div className="mt-2">
                        <Button
                            onClick={() => {
                                setOpen(true);
                            }}
                        >
                            Change
                        </Button>
                    </div>
                </>
            )}
            {open && (
                <form
                    className="grid max-w-xl gap-2 text-sm"
                    onSubmit={(event: FormEvent<HTMLFormElement>) => {
                        event.preventDefault();
                        save.mutate(Object.fromEntries(new FormData(event.currentTarget)) as Record<string, string>);
                    }}
                >
                    {rows.map(([name, title, value]) => (
                        <label key={name} className="grid gap-1">
                            {title}
                            {name !== "notes" && <span className="text-faded">several with a semicolon between them</span>}
                            <input name={name} defaultValue={value} className={FIELD} />
                        </label>
                    ))}
                    <div>
                        <Button type="submit" look="main" disabled={save.isPending}>
                            Save
                        </Button>
                    </div>
                </form>
            )}
            <Failure error={save.error} />
            <SealedFacts detail={detail} />
        </Sheet>
    );
}

/** Where it stands, what it is and becomes; whether it is in use. */
function Place({ device }: { device: DeviceRow }) {
    const queries = useQueryClient();
    const navigate = useNavigate();
    const [open, setOpen] = useState(false);
    const path = `devices/${encodeURIComponent(device.name)}` as const;
    const boards = useQuery({ queryKey: ["boards"], queryFn: () => get("boards"), enabled: open });
    const sites = useQuery({ queryKey: ["sites"], queryFn: () => get("sites"), enabled: open });
    const lines = useQuery({ queryKey: ["catalogue"], queryFn: () => get("catalogue"), enabled: open });
    const save = useMutation({
        mutationFn: (change: Record<string, string | boolean | null>) => patch(path, change),
        onSuccess: async (fresh) => {
            setOpen(false);
            queries.setQueryData(["devices", fresh.device.name], fresh);
            if (fresh.device.name !== device.name) await navigate({ to: "/devices/$name", params: { name: fresh.device.name } });
        },
    });
    const gone = useMutation({
        mutationFn: () => remove(path),
        onSuccess: () => navigate({ to: "/devices" }),
    });
    const kind = `${device.appliance} ${device.variant ?? ""}`.trim();
    const kinds = new Set([kind, ...(lines.data ?? []).map((line) => `${line.appliance} ${line.variant ?? ""}`.trim())]);
    const choices: [string, string, string, [string, string][]][] = [
        ["site", "Site", device.site, (sites.data ?? []).map((one) => [one.name, one.title])],
        ["board", "Board model", device.board, (boards.data ?? []).map((one) => [one.name, one.title])],
        ["kind", "Becomes", kind, [...kinds].map((one) => [one, one])],
    ];
    return (
        <Sheet title="Name, place and use">
            <div className="flex flex-wrap gap-3">
                <Button
                    onClick={() => {
                        setOpen(!open);
                    }}
                >
                    Rename or move it
                </Button>
                <Button
                    disabled={save.isPending}
                    onClick={() => {
                        save.mutate({ retired: device.state !== "retired" });
                    }}
                >
                    {device.state === "retired" ? "Use it again" : "Retire it"}
                </Button>
                {device.card == null && (
                    <Button
                        disabled={gone.isPending}
                        onClick={() => {
                            gone.mutate();
                        }}
                    >
                        Take it away
                    </Button>
                )}
            </div>
            {open && sites.data !== undefined && boards.data !== undefined && lines.data !== undefined && (
                <form
                    className="mt-3 flex flex-wrap items-end gap-3 text-sm"
                    onSubmit={(event: FormEvent<HTMLFormElement>) => {
                        event.preventDefault();
                        const form = Object.fromEntries(new FormData(event.currentTarget)) as Record<string, string>;
                        const [appliance, variant] = (form["kind"] ?? "").split(" ");
                        const { name, site, board } = form;
                        save.mutate({
                            name: name ?? device.name,
                            site: site ?? device.site,
                            board: board ?? device.board,
                            ...(form["kind"] === kind ? {} : { appliance: appliance ?? "", variant: variant ?? null }),
                        });
                    }}
                >
                    <label className="grid gap-1">
                        Name
                        <input name="name" required defaultValue={device.name} className={FIELD} />
                    </label>
                    {choices.map(([name, text, now, options]) => (
                        <label key={name} className="grid gap-1">
                            {text}
                            <select name={name} defaultValue={now} className={FIELD}>
                                {options.map(([value, shown]) => (
                                    <option key={value} value={value}>
                                        {shown}
                                    </option>
                                ))}
                            </select>
                        </label>
                    ))}
                    <Button type="submit" look="main" disabled={save.isPending}>
                        Change
                    </Button>
                </form>
            )}
            <Failure error={save.error ?? gone.error} />
        </Sheet>
    );
}

/** Facts found at set-up, such as an account. They are sealed, and shown one at a time. */
function SealedFacts({ detail }: { detail: DeviceDetail }) {
    const queries = useQueryClient();
    const { name } = detail.device;
    const [shown, setShown] = useState<Record<string, string>>({});
    const path = (fact: string) => `devices/${encodeURIComponent(name)}/facts/${encodeURIComponent(fact)}` as const;
    const show = useMutation({
        mutationFn: async (fact: string) => ({ fact, value: (await get(path(fact))).value ?? "" }),
        onSuccess: ({ fact, value }) => {
            setShown({ ...shown, [fact]: value });
        },
    });
    const keep = useMutation({
        mutationFn: ({ fact, value }: { fact: string; value: string }) => put(path(fact), { value }),
        onSuccess: (fresh) => {
            queries.setQueryData(["devices", name], fresh);
        },
    });
    return (
        <div className="mt-4 grid gap-2 text-sm">
            <h3 className="font-semibold text-faded">Sealed facts</h3>
            {(detail.facts ?? []).map((fact) => (
                <p key={fact.name} className="flex items-center gap-3">
                    <span className="font-semibold">{fact.name}</span>
                    {shown[fact.name] === undefined ? (
                        <Button
                            onClick={() => {
                                show.mutate(fact.name);
                            }}
                        >
                            Show
                        </Button>
                    ) : (
                        <span className="font-mono">{shown[fact.name]}</span>
                    )}
                </p>
            ))}
            <form
                className="flex flex-wrap items-end gap-2"
                onSubmit={(event: FormEvent<HTMLFormElement>) => {
                    event.preventDefault();
                    const form = event.currentTarget;
                    keep.mutate(filled(form, ["fact", "value"]), {
                        onSuccess: () => {
                            form.reset();
                        },
                    });
                }}
            >
                <label className="grid gap-1">
                    What it is
                    <input name="fact" required placeholder="account" className={FIELD} />
                </label>
                <label className="grid gap-1">
                    Content
                    <input name="value" required type="password" autoComplete="off" className={FIELD} />
                </label>
                <Button type="submit" disabled={keep.isPending}>
                    Keep
                </Button>
            </form>
            <Failure error={show.error ?? keep.error} />
        </div>
    );
}
