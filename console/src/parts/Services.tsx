// The services that work with the same records and the same vault: shown where there are several.
import { useQuery } from "@tanstack/react-query";

import { get } from "../api/client";
import { When } from "./text";
import { Sheet, State, Table } from "./ui";

export function Services() {
    const services = useQuery({ queryKey: ["services"], queryFn: () => get("services"), refetchInterval: 5000 });
    const all = services.data ?? [];
    if (all.length < 2) return null;
    return (
        <Sheet title="Services">
            <p className="mb-2 text-sm text-faded">
                Several services share these records and this vault. Each answers for all; what one of them has at its slots or under way,
                the others ask it for.
            </p>
            <Table head={["#service", "address", "version", "started", "does", "heard here"]}>
                {all.map((one) => (
                    <tr key={one.number}>
                        <td className="text-right tabular-nums">{one.number}</td>
                        <td className="font-mono">{one.address ?? "-"}</td>
                        <td>{one.version}</td>
                        <td>
                            <When at={one.started_at} />
                        </td>
                        <td>{[one.leads && "leads", one.own_slots && "has slots of its own"].filter(Boolean).join(", ") || "-"}</td>
                        <td>
                            <State name={one.answers ? "answers this page" : one.heard ? "heard" : "not heard"} />
                        </td>
                    </tr>
                ))}
            </Table>
        </Sheet>
    );
}
