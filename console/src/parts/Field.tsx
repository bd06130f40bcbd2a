// A device in the field: whether it is waited for, and what was seen of it since it was accepted.
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link, useNavigate } from "@tanstack/react-router";

import { type Device, Refusal, get, post } from "../api/client";
import { When } from "./text";
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
        </div>
    );
}
