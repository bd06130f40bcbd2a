// A device in the field: whether it is waited for, and what was seen of it since it was accepted.
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link, useNavigate } from "@tanstack/react-router";

import { type Device, type ExportChange, Refusal, get, post } from "../api/client";
import { Photo } from "./Photo";
import { Size, When } from "./text";
import { Button, Facts, Failure, Label, State } from "./ui";

/** What is not there yet is no failure. */
const orNothing = async <T,>(asked: Promise<T>): Promise<T | null> => {
    try {
        return await asked;
    } catch (error) {
        if (error instanceof Refusal && error.problem.status === 404) return null;
        throw error;
    }
};

export function Field({ device }: { device: Device }) {
    const name = encodeURIComponent(device.name);
    const queries = useQueryClient();
    const navigate = useNavigate();
    const arrival = useQuery({ queryKey: ["arrivals", "of", device.name], queryFn: () => orNothing(get(`devices/${name}/arrival`)) });
    const seen = useQuery({ queryKey: ["sightings", device.name], queryFn: () => orNothing(get(`devices/${name}/sighting`)) });
    const expect = useMutation({
        mutationFn: () => post("arrivals", { device: device.name }),
        onSuccess: async (made) => {
            queries.setQueryData(["arrivals", made.arrival.id], made);
            await navigate({ to: "/arrivals/$id", params: { id: String(made.arrival.id) } });
        },
    });
    const newest = arrival.data?.arrival;
    const rows: [string, React.ReactNode][] = [];
    if (device.updated_to != null) rows.push(["runs", `${device.updated_to}, updated in place`]);
    if (newest !== undefined) {
        rows.push([
            "arrival",
            <span key="arrival" className="inline-flex flex-wrap gap-x-3">
                <Link to="/arrivals/$id" params={{ id: String(newest.id) }} className="text-blueprint underline">
                    {newest.id}
                </Link>
                <State name={newest.state} />
                <When at={newest.ended_at ?? newest.began_at} />
            </span>,
        ]);
    }
    if (seen.data != null) {
        rows.push(["last seen", <When key="seen" at={seen.data.seen_at} />]);
        if (seen.data.silent_since != null) rows.push(["silent since", <When key="silent" at={seen.data.silent_since} />]);
        if (seen.data.address != null) rows.push(["address", <span key="address" className="font-mono">{seen.data.address}</span>]);
        if (seen.data.version != null) rows.push(["version it says", seen.data.version]);
        if (seen.data.certificate_until != null) rows.push(["certificate until", seen.data.certificate_until.slice(0, 10)]);
    }
    return (
        <div className="mb-4 grid gap-3">
            {rows.length > 0 && <Facts rows={rows} />}
            {newest !== undefined && newest.ended_at == null ? null : (
                <div>
                    <Button
                        disabled={expect.isPending}
                        onClick={() => {
                            expect.mutate();
                        }}
                    >
                        {device.card == null ? "Its card is in it now" : <>Card <Label>{device.card}</Label> is in it now</>}
                    </Button>
                </div>
            )}
            <Failure error={expect.error ?? arrival.error ?? seen.error} />
            <Photo device={device.name} />
            <Exports device={device.name} isSeen={seen.data != null} />
        </div>
    );
}

/** What is another thing in an export than in the one before it. */
function Changes({ changes }: { changes: ExportChange[] }) {
    return (
        <table className="w-full text-left">
            <thead className="text-faded">
                <tr>
                    <th className="font-normal">at</th>
                    <th className="font-normal">before</th>
                    <th className="font-normal">now</th>
                </tr>
            </thead>
            <tbody className="font-mono [overflow-wrap:anywhere]">
                {changes.map((one) => (
                    <tr key={`${one.at} ${one.before ?? ""}`} className="border-t border-line align-top">
                        <td className="pr-3">{one.at}</td>
                        <td className="pr-3">{one.before ?? "-"}</td>
                        <td>{one.now ?? "-"}</td>
                    </tr>
                ))}
            </tbody>
        </table>
    );
}

/** The settings that it exported of itself: an hour of tuning that lives on one card. */
function Exports({ device, isSeen }: { device: string; isSeen: boolean }) {
    const name = encodeURIComponent(device);
    const queries = useQueryClient();
    const key = ["exports", device];
    const all = useQuery({ queryKey: key, queryFn: () => get(`devices/${name}/exports`) });
    const take = useMutation({
        mutationFn: () => post(`devices/${name}/exports`, {}),
        onSuccess: () => queries.invalidateQueries({ queryKey: key }),
    });
    const give = useMutation({ mutationFn: (id: number) => post(`devices/${name}/exports/${String(id)}/give`, {}) });
    const compare = useMutation({ mutationFn: (id: number) => get(`devices/${name}/exports/${String(id)}/changes`) });
    const rows = all.data ?? [];
    if (rows.length === 0 && !isSeen) return null;
    return (
        <section aria-label="Settings that it exported" className="grid gap-2 text-sm">
            <h3 className="font-semibold">Settings that it exported of itself</h3>
            {rows.length === 0 && <p className="text-faded">Nothing was taken of it yet.</p>}
            {rows.slice(0, 5).map((row) => (
                <div key={row.id} className="flex flex-wrap items-center gap-x-4 gap-y-1">
                    <span>
                        {row.id}, <When at={row.taken_at} />, <Size bytes={row.bytes} />
                        {row.version !== "" && <>, {row.version}</>}
                    </span>
                    <a className="text-blueprint underline" href={`/api/v1/devices/${name}/exports/${String(row.id)}`} download={`${device}-${String(row.id)}`}>
                        Read it, secrets and all
                    </a>
                    {row.changed && (
                        <Button
                            disabled={compare.isPending}
                            onClick={() => {
                                compare.mutate(row.id);
                            }}
                        >
                            What changed
                        </Button>
                    )}
                    <Button
                        disabled={give.isPending}
                        onClick={() => {
                            give.mutate(row.id);
                        }}
                    >
                        Give it back
                    </Button>
                    {give.variables === row.id && give.isSuccess && <span className="text-moss">✓ it was taken back</span>}
                    {compare.variables === row.id && compare.data !== undefined && <Changes changes={compare.data} />}
                </div>
            ))}
            <div>
                <Button
                    disabled={take.isPending}
                    onClick={() => {
                        take.mutate();
                    }}
                >
                    Take it now
                </Button>
            </div>
            <Failure error={take.error ?? give.error ?? compare.error ?? all.error} />
        </section>
    );
}
