// Devices: the list, one device with its settings, registering one.
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link, useParams } from "@tanstack/react-router";
import { type FormEvent, useState } from "react";

import {
    type BoardModel,
    type Choice,
    type Device as DeviceRow,
    type DeviceDetail,
    type Release,
    type Setting,
    type Site,
    type Standing,
    get,
    patch,
    post,
    put,
} from "../api/client";
import { ImprintView } from "../parts/ImprintView";
import { Button, Empty, FIELD, Facts, Failure, Label, Notice, Page, Sheet, State, Table } from "../parts/ui";

export function Devices() {
    const devices = useQuery({ queryKey: ["devices"], queryFn: () => get<DeviceRow[]>("devices") });
    const standings = useQuery({ queryKey: ["standings"], queryFn: () => get<Standing[]>("standings") });
    const standing = new Map((standings.data ?? []).map((one) => [one.device, one]));
    const [adding, setAdding] = useState(false);
    return (
        <Page
            title="Devices"
            aside={
                <Button
                    onClick={() => {
                        setAdding(!adding);
                    }}
                >
                    Register a device
                </Button>
            }
        >
            {adding && (
                <NewDevice
                    done={() => {
                        setAdding(false);
                    }}
                />
            )}
            <Failure error={devices.error} />
            {devices.data?.length === 0 && <Empty>No device yet. Register the first one, then set its values.</Empty>}
            {devices.data !== undefined && devices.data.length > 0 && (
                <Table head={["device", "state", "appliance", "board", "site", "host name", "card", "carries", "standing"]}>
                    {devices.data.map((device) => (
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
                            <td>{device.card == null ? "-" : <Label>{device.card}</Label>}</td>
                            <td>
                                {standing.get(device.name)?.carries ?? "-"}
                                {standing.get(device.name)?.withdrawn === true && (
                                    <>
                                        {" "}
                                        <State name="withdrawn" />
                                    </>
                                )}
                            </td>
                            <td>
                                <State name={standing.get(device.name)?.standing ?? ""} />
                            </td>
                        </tr>
                    ))}
                </Table>
            )}
        </Page>
    );
}

function NewDevice({ done }: { done: () => void }) {
    const queries = useQueryClient();
    const boards = useQuery({ queryKey: ["boards"], queryFn: () => get<BoardModel[]>("boards") });
    const sites = useQuery({ queryKey: ["sites"], queryFn: () => get<Site[]>("sites") });
    const releases = useQuery({ queryKey: ["releases"], queryFn: () => get<Release[]>("releases") });
    const add = useMutation({
        mutationFn: (form: Record<string, string>) => post<DeviceDetail>("devices", form),
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
                    add.mutate(Object.fromEntries(new FormData(event.currentTarget)) as Record<string, string>);
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
        queryFn: () => get<DeviceDetail>(`devices/${encodeURIComponent(name ?? "")}`),
    });
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
                            ]}
                        />
                    </Sheet>
                    <Settings detail={data} />
                    <Choices device={data.device.name} pinned={data.device.pinned ?? undefined} />
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
    const path = `devices/${encodeURIComponent(device)}`;
    const choices = useQuery({ queryKey: ["choices", device], queryFn: () => get<Choice[]>(`${path}/choices`) });
    const follow = useMutation({
        mutationFn: (release: string | null) => put<Standing>(`${path}/following`, { pinned: release }),
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
            <Table head={["release", "state", "suits", "why", ""]}>
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
    const [typed, setTyped] = useState<Record<string, string>>({});
    const save = useMutation({
        mutationFn: (set: Record<string, string | null>) =>
            patch<DeviceDetail>(`devices/${encodeURIComponent(name)}/settings`, { set }),
        onSuccess: (fresh) => {
            queries.setQueryData(["devices", name], fresh);
            setTyped({});
        },
    });
    const problem = (field: string) => detail.problems.find((one) => one.field === field)?.rule;
    return (
        <Sheet title="Settings">
            <form
                className="grid gap-3"
                onSubmit={(event) => {
                    event.preventDefault();
                    const set = Object.entries(typed).map(([field, value]) => [field, value === "" ? null : value]);
                    save.mutate(Object.fromEntries(set) as Record<string, string | null>);
                }}
            >
                {detail.settings.map((setting) => (
                    <FieldView
                        key={setting.name}
                        setting={setting}
                        typed={typed[setting.name]}
                        problem={problem(setting.name)}
                        type={(value) => {
                            setTyped({ ...typed, [setting.name]: value });
                        }}
                    />
                ))}
                <div>
                    <Button type="submit" look="main" disabled={Object.keys(typed).length === 0 || save.isPending}>
                        Save
                    </Button>
                </div>
                <Failure error={save.error} />
                {save.isSuccess && <Notice tone="moss">Saved. Cards that were written before keep their old values.</Notice>}
            </form>
        </Sheet>
    );
}

function hint(setting: Setting): string {
    if (setting.origin === "release") return "default of the release";
    if (setting.secret && setting.value != null) return "kept sealed; type to replace it";
    return setting.help ?? "";
}

function FieldView({
    setting,
    typed,
    problem,
    type,
}: {
    setting: Setting;
    typed: string | undefined;
    problem: string | undefined;
    type: (value: string) => void;
}) {
    const stored = setting.value ?? "";
    return (
        <label className="grid grid-cols-[11rem_18rem_1fr] items-center gap-3 text-sm">
            <span className="font-semibold">{setting.label}</span>
            <input
                name={setting.name}
                type={setting.secret ? "password" : "text"}
                autoComplete="off"
                value={typed ?? (setting.secret ? "" : stored)}
                placeholder={setting.secret ? (stored === "" ? "not set" : stored) : "not set"}
                onChange={(event) => {
                    type(event.target.value);
                }}
                className={FIELD}
            />
            <span className={problem === undefined ? "text-faded" : "text-oxide"}>
                {problem ?? hint(setting)}
            </span>
        </label>
    );
}
