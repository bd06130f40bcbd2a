// The team: who belongs to it, what they are signed in with, what one has to prove oneself with.
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import { type FormEvent, useState } from "react";

import { type Invitation, type Me, type Pass, type Person, type Role, get, patch, post, put, remove } from "../api/client";
import { useMe } from "../api/live";
import { filled } from "../parts/form";
import { Notices } from "../parts/Notices";
import { Services } from "../parts/Services";
import { When } from "../parts/text";
import { Twice } from "../parts/Twice";
import { Button, Empty, FIELD, Facts, Failure, Label, Notice, Page, Sheet, Table } from "../parts/ui";
import { ByCode, ByPassword, useSignedIn } from "./SignIn";

const ROLES: readonly [Role, string][] = [
    ["looker", "sees everything but secrets"],
    ["bench hand", "also writes, restores, backs up and checks cards"],
    ["keeper", "also the catalogue, devices, settings and presets"],
    ["owner", "also people, benches, keys, and what removes something"],
];

export function Team() {
    const me = useMe().data;
    if (me === undefined) return null;
    const owner = me.role === "owner";
    if (me.open) return <FirstOwner />;
    return (
        <Page
            title="Team"
            aside={
                (owner || me.role === "keeper") && (
                    <Link to="/history" className="text-sm text-blueprint underline">
                        History: who asked what
                    </Link>
                )
            }
        >
            <People owner={owner} />
            <Own me={me} />
            <Passes owner={owner} me={me} />
            {owner && me.how !== "station" && <Station me={me} />}
            {(owner || me.role === "keeper") && <Notices owner={owner} />}
            <Services />
        </Page>
    );
}

function FirstOwner() {
    return (
        <Page title="Team">
            <Empty>
                Nobody belongs to the team yet, so whoever sits at the service&rsquo;s computer may do everything, and nobody else
                anything. Make the first owner with the code that stands in the service&rsquo;s log, or that{" "}
                <code>duplicariumd --first-owner</code> prints.
            </Empty>
            <div className="mt-4 max-w-md">
                <ByCode />
            </div>
        </Page>
    );
}

/** A code is shown once; whoever it is for chooses a password with it. */
function Code({ made }: { made: Invitation }) {
    return (
        <Notice tone="ochre">
            <p>
                The one-time code of {made.name}: <Label>{made.code}</Label>
            </p>
            <p className="text-faded">
                It is shown this once, and good until <When at={made.until} />. They choose a password with it.
            </p>
        </Notice>
    );
}

function People({ owner }: { owner: boolean }) {
    const queries = useQueryClient();
    const people = useQuery({ queryKey: ["people"], queryFn: () => get("people") });
    const again = () => queries.invalidateQueries({ queryKey: ["people"] });
    const invite = useMutation({ mutationFn: (name: string) => post(`people/${encodeURIComponent(name)}/invitation`, null) });
    const change = useMutation({
        mutationFn: ({ name, role }: { name: string; role: Role }) => patch(`people/${encodeURIComponent(name)}`, { role }),
        onSettled: again,
    });
    const part = useMutation({
        mutationFn: (name: string) => remove(`people/${encodeURIComponent(name)}`),
        onSuccess: again,
    });
    return (
        <Sheet title="People">
            <Table head={["name", "role", "has", "last seen", ...(owner ? [""] : [])]}>
                {(people.data ?? []).map((person: Person) => (
                    <tr key={person.name}>
                        <td className="font-semibold">{person.name}</td>
                        <td>
                            {owner ? (
                                <select
                                    aria-label={`Role of ${person.name}`}
                                    value={person.role}
                                    className={FIELD}
                                    onChange={(event) => {
                                        change.mutate({ name: person.name, role: event.target.value as Role });
                                    }}
                                >
                                    {ROLES.map(([role]) => (
                                        <option key={role}>{role}</option>
                                    ))}
                                </select>
                            ) : (
                                person.role
                            )}
                        </td>
                        <td className={person.welcomed ? "" : "text-ochre"}>
                            {person.welcomed
                                ? ["password", person.second_factor && "second factor", person.pin && "PIN"].filter(Boolean).join(", ")
                                : "… a one-time code only"}
                        </td>
                        <td>{person.seen_at == null ? "—" : <When at={person.seen_at} />}</td>
                        {owner && (
                            <td className="text-right whitespace-nowrap">
                                <Button
                                    onClick={() => {
                                        invite.mutate(person.name);
                                    }}
                                >
                                    New code
                                </Button>{" "}
                                {/* Their sessions and tokens end at once. */}
                                <Twice
                                    label="Remove"
                                    sure={`Part with ${person.name}`}
                                    act={() => {
                                        part.mutate(person.name);
                                    }}
                                />
                            </td>
                        )}
                    </tr>
                ))}
            </Table>
            <Failure error={change.error ?? part.error ?? invite.error ?? people.error} />
            {invite.data !== undefined && <Code made={invite.data} />}
            {owner && <NewPerson done={again} />}
        </Sheet>
    );
}

function NewPerson({ done }: { done: () => unknown }) {
    const add = useMutation({
        mutationFn: (given: { name: string; role: string }) => post("people", { name: given.name, role: given.role as Role }),
        onSuccess: done,
    });
    return (
        <form
            className="mt-3 flex flex-wrap items-end gap-3 text-sm"
            onSubmit={(event: FormEvent<HTMLFormElement>) => {
                event.preventDefault();
                add.mutate(filled(event.currentTarget, ["name", "role"]));
            }}
        >
            <label className="grid gap-1">
                Let somebody in
                <input name="name" required maxLength={64} placeholder="name" className={FIELD} />
            </label>
            <label className="grid gap-1">
                as
                <select name="role" defaultValue="bench hand" className={FIELD}>
                    {ROLES.map(([role, may]) => (
                        <option key={role} value={role}>
                            {role}: {may}
                        </option>
                    ))}
                </select>
            </label>
            <Button type="submit" look="main" disabled={add.isPending}>
                Make a code for them
            </Button>
            <Failure error={add.error} />
            {add.data !== undefined && <Code made={add.data} />}
        </form>
    );
}

function Own({ me }: { me: Me }) {
    const signedIn = useSignedIn();
    const out = useMutation({
        mutationFn: () => post("sign-out", null),
        onSuccess: () => {
            signedIn(undefined);
        },
    });
    return (
        <Sheet title="You">
            <Facts
                rows={[
                    ["name", me.name ?? "—"],
                    ["role", `${me.role ?? "none"}: ${ROLES.find(([role]) => role === me.role)?.[1] ?? ""}`],
                    ["known by", me.how === "loopback" ? "sitting at the service's computer, without signing in" : `a ${me.how}`],
                ]}
            />
            {me.how === "loopback" && (
                <details className="mt-3 max-w-md text-sm">
                    <summary className="cursor-pointer text-blueprint underline">Sign in as somebody else</summary>
                    <div className="mt-2">
                        <ByPassword />
                    </div>
                </details>
            )}
            {me.how === "session" && (
                <div className="mt-3 flex flex-wrap items-start gap-6">
                    <NewPassword />
                    <NewPin has={me.pin} />
                    <Factor has={me.second_factor} />
                    <Button
                        onClick={() => {
                            out.mutate();
                        }}
                    >
                        Sign out
                    </Button>
                </div>
            )}
            <Failure error={out.error} />
        </Sheet>
    );
}

/** A small form of secrets; it empties itself when it is done. */
function Secrets<const Names extends readonly string[]>({
    names,
    action,
    done,
    change,
}: {
    names: readonly [Names[number], string, string][];
    action: string;
    done: string;
    change: (given: Record<Names[number], string>) => Promise<unknown>;
}) {
    const queries = useQueryClient();
    const mutation = useMutation({
        mutationFn: change,
        onSuccess: () => queries.invalidateQueries({ queryKey: ["me"] }),
    });
    return (
        <form
            className="grid gap-2 text-sm"
            onSubmit={(event: FormEvent<HTMLFormElement>) => {
                event.preventDefault();
                const form = event.currentTarget;
                const given = filled(
                    form,
                    names.map(([name]) => name),
                ) as Record<Names[number], string>;
                mutation.mutate(given, {
                    onSuccess: () => {
                        form.reset();
                    },
                });
            }}
        >
            {names.map(([name, label, kind]) => (
                <label key={name} className="grid gap-1">
                    {label}
                    <input name={name} required type={kind} autoComplete="off" className={FIELD} />
                </label>
            ))}
            <Button type="submit" disabled={mutation.isPending}>
                {action}
            </Button>
            <Failure error={mutation.error} />
            {mutation.isSuccess && <Notice tone="moss">{done}</Notice>}
        </form>
    );
}

function NewPassword() {
    return (
        <Secrets<["old", "new"]>
            names={[
                ["old", "Password until now", "password"],
                ["new", "New password", "password"],
            ]}
            action="Change the password"
            done="It is changed. Everything else that was signed in with it is not any more."
            change={(given) => put("me/password", given)}
        />
    );
}

function NewPin({ has }: { has: boolean }) {
    return (
        <Secrets<["password", "pin"]>
            names={[
                ["password", "Password", "password"],
                ["pin", has ? "Another PIN for stations" : "PIN for stations, 4 to 8 digits", "password"],
            ]}
            action={has ? "Change the PIN" : "Set a PIN"}
            done="The PIN is set."
            change={(given) => put("me/pin", given)}
        />
    );
}

/** The code as a picture: cells of a QR code with the quiet zone around it. */
function Qr({ rows }: { rows: string[] }) {
    const side = rows.length + 8;
    return (
        <svg role="img" aria-label="QR code for an authenticator" viewBox={`0 0 ${String(side)} ${String(side)}`} className="size-44">
            <rect width={side} height={side} fill="#fff" />
            {rows.flatMap((row, y) =>
                [...row].map((cell, x) =>
                    cell === "1" ? <rect key={`${String(x)}-${String(y)}`} x={x + 4} y={y + 4} width={1.02} height={1.02} fill="#000" /> : null,
                ),
            )}
        </svg>
    );
}

function Factor({ has }: { has: boolean }) {
    const begin = useMutation({ mutationFn: () => post("me/second-factor", null) });
    const [recovery, setRecovery] = useState<string[]>([]);
    if (recovery.length > 0) {
        return (
            <Notice tone="ochre">
                <p>
                    A second factor is asked for from now on. Write these recovery codes down: each stands for a code of the authenticator
                    once, where that is lost. They are shown this once.
                </p>
                <ul aria-label="Recovery codes" className="mt-2 grid gap-1 font-mono sm:grid-cols-2">
                    {recovery.map((code) => (
                        <li key={code}>{code}</li>
                    ))}
                </ul>
            </Notice>
        );
    }
    if (has) {
        return <p className="text-sm text-moss">✓ a second factor is asked for when you sign in</p>;
    }
    if (begin.data === undefined) {
        return (
            <div>
                <Button
                    onClick={() => {
                        begin.mutate();
                    }}
                >
                    Set up a second factor
                </Button>
                <Failure error={begin.error} />
            </div>
        );
    }
    const { secret, qr } = begin.data;
    return (
        <div className="grid gap-2 text-sm">
            <p>Let an authenticator read this, or type the secret in. It counts once its code was given.</p>
            <Qr rows={qr} />
            <code className="break-all">{secret}</code>
            <Secrets<["password", "code"]>
                names={[
                    ["password", "Password", "password"],
                    ["code", "The code that it shows", "text"],
                ]}
                action="Take it"
                done="It is asked for from now on."
                change={(given) =>
                    put("me/second-factor", { ...given, secret }).then((taken) => {
                        setRecovery(taken.recovery_codes);
                    })
                }
            />
        </div>
    );
}

/** What proves again who asks, for what opens the service. */
function Again({ me }: { me: Me }) {
    return (
        <>
            <label className="grid gap-1">
                Your password
                <input name="password" type="password" required autoComplete="current-password" className={FIELD} />
            </label>
            {me.second_factor && (
                <label className="grid gap-1">
                    Code of your second factor
                    <input name="code" required autoComplete="one-time-code" className={`${FIELD} font-mono`} />
                </label>
            )}
        </>
    );
}

/** The fields of {@link Again}, where they are there. */
function again(given: { password: string; code: string }) {
    return { password: given.password, code: given.code === "" ? null : given.code };
}

function Passes({ owner, me }: { owner: boolean; me: Me }) {
    const queries = useQueryClient();
    const passes = useQuery({ queryKey: ["passes"], queryFn: () => get("passes") });
    const look = () => queries.invalidateQueries({ queryKey: ["passes"] });
    const end = useMutation({ mutationFn: (id: number) => remove(`passes/${String(id)}`), onSuccess: look });
    const make = useMutation({
        mutationFn: (given: { name: string; role: string; password: string; code: string }) =>
            post("passes", { name: given.name, role: given.role as Role, days: 365, ...again(given) }),
        onSuccess: look,
    });
    const most = ROLES.findIndex(([role]) => role === me.role);
    return (
        <Sheet title={owner ? "Signed in: everybody" : "Signed in"}>
            <Table head={["kind", "who", "called", "may act as", "last used", "ends", ""]}>
                {(passes.data ?? []).map((pass: Pass) => (
                    <tr key={pass.id}>
                        <td>{pass.kind}</td>
                        <td>{pass.person ?? pass.acting ?? "—"}</td>
                        <td>
                            {pass.name}
                            {pass.own && <span className="text-faded"> (this one)</span>}
                        </td>
                        <td>{pass.role}</td>
                        <td>
                            <When at={pass.used_at} /> <span className="text-faded">from {pass.used_from}</span>
                        </td>
                        <td>
                            <When at={pass.expires_at} />
                        </td>
                        <td className="text-right">
                            <Button
                                onClick={() => {
                                    end.mutate(pass.id);
                                }}
                            >
                                End
                            </Button>
                        </td>
                    </tr>
                ))}
            </Table>
            <Failure error={end.error ?? passes.error} />
            {me.how !== "station" && (
                <form
                    className="mt-3 flex flex-wrap items-end gap-3 text-sm"
                    onSubmit={(event: FormEvent<HTMLFormElement>) => {
                        event.preventDefault();
                        make.mutate(filled(event.currentTarget, ["name", "role", "password", "code"]));
                    }}
                >
                    <label className="grid gap-1">
                        A token for a program
                        <input name="name" required maxLength={64} placeholder="what it is for" className={FIELD} />
                    </label>
                    <label className="grid gap-1">
                        that may do as
                        <select name="role" className={FIELD}>
                            {ROLES.slice(0, most + 1).map(([role]) => (
                                <option key={role}>{role}</option>
                            ))}
                        </select>
                    </label>
                    <Again me={me} />
                    <Button type="submit" disabled={make.isPending}>
                        Make it
                    </Button>
                    <Failure error={make.error} />
                </form>
            )}
            {make.data !== undefined && (
                <Notice tone="ochre">
                    It is shown this once: <code className="break-all">{make.data.token}</code>
                </Notice>
            )}
        </Sheet>
    );
}

function Station({ me }: { me: Me }) {
    const signedIn = useSignedIn();
    const make = useMutation({
        mutationFn: (given: { name: string; role: string; password: string; code: string }) =>
            post("stations", { name: given.name, role: given.role as Role, days: 365, ...again(given) }),
        onSuccess: (me) => {
            signedIn(me);
        },
    });
    return (
        <Sheet title="Make this computer a station">
            <p className="mb-2 text-sm text-faded">
                A bench that many share: it stays signed in by itself, and whoever works at it says their name and PIN, for ten minutes. You
                are signed out here.
            </p>
            <form
                className="flex flex-wrap items-end gap-3 text-sm"
                onSubmit={(event: FormEvent<HTMLFormElement>) => {
                    event.preventDefault();
                    make.mutate(filled(event.currentTarget, ["name", "role", "password", "code"]));
                }}
            >
                <label className="grid gap-1">
                    It is called
                    <input name="name" required maxLength={64} className={FIELD} />
                </label>
                <label className="grid gap-1">
                    and nobody may do more there than a
                    <select name="role" defaultValue="bench hand" className={FIELD}>
                        {ROLES.filter(([role]) => role !== "owner").map(([role]) => (
                            <option key={role}>{role}</option>
                        ))}
                    </select>
                </label>
                <Again me={me} />
                <Button type="submit" disabled={make.isPending}>
                    Make it a station
                </Button>
                <Failure error={make.error} />
            </form>
        </Sheet>
    );
}
