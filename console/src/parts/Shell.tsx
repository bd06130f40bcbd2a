// What stands around every page: the name, the pages, who acts, whether the service is heard.
import { useQueryClient } from "@tanstack/react-query";
import { Link, Outlet, useLocation } from "@tanstack/react-router";
import { useEffect, useState } from "react";

import { type Me, SIGNED_OUT, operator, remove, setOperator } from "../api/client";
import { listen, useConnected, useMe } from "../api/live";
import { Acting, SignIn, useSignedIn } from "../pages/SignIn";

const PAGES = [
    ["/", "Bench"],
    ["/devices", "Devices"],
    ["/arrivals", "Arrivals"],
    ["/catalogue", "Catalogue"],
    ["/cards", "Cards"],
    ["/backups", "Backups"],
    ["/activity", "Activity"],
] as const;

export function Shell() {
    const queries = useQueryClient();
    // The large view has the whole screen to itself.
    const large = useLocation({ select: (place) => place.pathname === "/large" });
    const me = useMe().data;
    const known = me === undefined || me.role != null;
    const name = me?.name;
    // Who signs in listens anew: the stream is theirs.
    useEffect(() => (known ? listen(queries) : undefined), [queries, known, name]);
    useEffect(() => {
        const again = () => void queries.invalidateQueries({ queryKey: ["me"] });
        window.addEventListener(SIGNED_OUT, again);
        return () => {
            window.removeEventListener(SIGNED_OUT, again);
        };
    }, [queries]);
    return (
        <>
            <header hidden={large} className="border-b-2 border-ink bg-sheet">
                <div className="mx-auto flex max-w-6xl flex-wrap items-center gap-x-6 gap-y-1 px-3 py-2.5 sm:px-6">
                    <span className="font-mono font-semibold tracking-tight text-blueprint">Duplicarium</span>
                    <nav hidden={!known} aria-label="Pages" className="flex flex-wrap gap-1">
                        {PAGES.map(([to, name]) => (
                            <Link
                                key={to}
                                to={to}
                                activeOptions={{ exact: to === "/" }}
                                className="rounded-sm px-2.5 py-1 text-sm font-semibold text-faded hover:text-blueprint"
                                activeProps={{ className: "!text-ink underline decoration-2 underline-offset-8 decoration-blueprint" }}
                            >
                                {name}
                            </Link>
                        ))}
                    </nav>
                    {known && <Heard />}
                    {me !== undefined && <Who me={me} />}
                </div>
            </header>
            {known ? <Outlet /> : <SignIn />}
        </>
    );
}

function Heard() {
    const connected = useConnected();
    if (connected !== false) return <span className="ml-auto text-sm text-faded">live</span>;
    return (
        <span role="alert" className="ml-auto text-sm font-semibold text-oxide">
            ✕ the service is not heard; what you see may be old
        </span>
    );
}

/** Who acts: a name that is typed as long as nobody belongs to the team, then whoever is signed in. */
function Who({ me }: { me: Me }) {
    if (me.open) {
        return (
            <>
                <Operator />
                <Link to="/team" className="text-sm text-blueprint underline">
                    make the first owner
                </Link>
            </>
        );
    }
    if (me.role == null) return null;
    if (me.station != null && me.name === me.station) return <Acting me={me} />;
    return (
        <span className="flex items-center gap-2 text-sm text-faded">
            <Link to="/team" className="font-semibold text-blueprint underline">
                {me.name}
            </Link>
            {me.role}
            {me.station != null && <Leave />}
        </span>
    );
}

/** Ends acting at a station before the ten minutes are over. */
function Leave() {
    const signedIn = useSignedIn();
    return (
        <button
            type="button"
            className="cursor-pointer text-blueprint underline"
            onClick={() => {
                void remove("acting").then(() => {
                    signedIn(undefined);
                });
            }}
        >
            done
        </button>
    );
}

function Operator() {
    const [name, setName] = useState(operator);
    return (
        <label className="flex items-center gap-2 text-sm text-faded">
            acting as
            <input
                value={name}
                maxLength={64}
                onChange={(event) => {
                    setName(event.target.value);
                    setOperator(event.target.value);
                }}
                className="w-28 rounded-sm border border-line bg-paper px-2 py-1 text-ink"
            />
        </label>
    );
}
