// Arrivals: who is waited for, and one board on its way from the card in it to doing its job. Made for a phone at
// a lamp post first.
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link, useNavigate, useParams } from "@tanstack/react-router";
import { type FormEvent, useEffect, useState } from "react";

import { type Arrival as ArrivalRow, type ArrivalDetail, type Export, type SeenBoard, type Step, get, patch, post, put } from "../api/client";
import { Accept } from "../parts/Confirm";
import { Finder } from "../parts/Finder";
import { FirstJoin } from "../parts/FirstJoin";
import { LampPattern, LampQuestion } from "../parts/Lamp";
import { Older, useOlder } from "../parts/Older";
import { Photo } from "../parts/Photo";
import { SerialLine } from "../parts/SerialLine";
import { When, span } from "../parts/text";
import { Amount, Button, Empty, FIELD, Facts, Failure, Label, Notice, Page, Sheet, State, Table } from "../parts/ui";

export function Arrivals() {
    const read = (before?: number) => get(before === undefined ? "arrivals" : `arrivals?before=${String(before)}`);
    const { list: arrivals, items } = useOlder(["arrivals"], read, 5000);
    return (
        <Page title="Arrivals">
            <Expect />
            <Failure error={arrivals.error} />
            {arrivals.data !== undefined && items.length === 0 ? (
                <Empty>
                    No arrival yet. When a card is in its board, say so above: the board is waited for, looked at and accepted on a page of its own.
                </Empty>
            ) : (
                <Table head={["#arrival", "device", "state", "card", "on it", "since", "waits"]}>
                    {items.map((row) => (
                        <Row key={row.id} row={row} />
                    ))}
                </Table>
            )}
            <Older list={arrivals} word="Older ones" />
        </Page>
    );
}

function Row({ row }: { row: ArrivalRow }) {
    return (
        <tr>
            <Amount>{row.id}</Amount>
            <td>
                <Link to="/arrivals/$id" params={{ id: String(row.id) }} className="font-semibold text-blueprint underline">
                    {row.device}
                </Link>
            </td>
            <td>
                <State name={row.state} />
                {row.late && <span className="ml-2 text-ochre">late</span>}
            </td>
            <td>{row.card != null ? <Label>{row.card}</Label> : "-"}</td>
            <td>{row.base}</td>
            <td className="whitespace-nowrap">
                <When at={row.began_at} />
            </td>
            <td>{row.waits_for}</td>
        </tr>
    );
}

/** Says that a card is in its device now. */
function Expect() {
    const navigate = useNavigate();
    const queries = useQueryClient();
    const [device, setDevice] = useState("");
    const expect = useMutation({
        mutationFn: (wanted: { device: string; waits_for: string }) => post("arrivals", wanted),
        onSuccess: async (made) => {
            queries.setQueryData(["arrivals", made.arrival.id], made);
            await navigate({ to: "/arrivals/$id", params: { id: String(made.arrival.id) } });
        },
    });
    return (
        <Sheet title="A card is in its device now">
            <form
                className="flex flex-wrap items-end gap-3 text-sm"
                onSubmit={(event: FormEvent<HTMLFormElement>) => {
                    event.preventDefault();
                    const given = new FormData(event.currentTarget);
                    const word = (name: string) => {
                        const value = given.get(name);
                        return typeof value === "string" ? value.trim() : "";
                    };
                    expect.mutate({ device, waits_for: word("waits") });
                }}
            >
                <div className="w-56">
                    <Finder
                        label="Device"
                        keyOf="devices"
                        value={device}
                        choose={setDevice}
                        find={async (text) => {
                            const page = await get(`devices?limit=20&search=${encodeURIComponent(text)}`);
                            return page.items.map((one) => [one.name, one.site]);
                        }}
                    />
                </div>
                <label className="grid gap-1">
                    Who waits for it
                    <input name="waits" maxLength={80} className={`${FIELD} w-44`} />
                </label>
                <Button type="submit" look="main" disabled={device === "" || expect.isPending}>
                    Wait for it
                </Button>
            </form>
            <div className="mt-2">
                <Failure error={expect.error} />
            </div>
        </Sheet>
    );
}

const useArrival = (id: number) =>
    useQuery({
        queryKey: ["arrivals", id],
        queryFn: () => get(`arrivals/${String(id)}`),
        refetchInterval: (query) => (query.state.data?.arrival.ended_at == null ? 1500 : false),
    });

export function Arrival() {
    const { id } = useParams({ from: "/arrivals/$id" });
    const arrival = useArrival(Number(id));
    const data = arrival.data;
    return (
        <Page title={data === undefined ? "Arrival" : `${data.arrival.device} arrives`} aside={data !== undefined && <State name={data.arrival.state} />}>
            <Failure error={arrival.error} />
            {data !== undefined && <Whole detail={data} />}
        </Page>
    );
}

function Whole({ detail }: { detail: ArrivalDetail }) {
    const { arrival, expected } = detail;
    const queries = useQueryClient();
    const open = arrival.ended_at == null;
    const fresh = (made: ArrivalDetail) => {
        queries.setQueryData(["arrivals", made.arrival.id], made);
        void queries.invalidateQueries({ queryKey: ["attention"] });
    };
    const tell = useMutation({
        mutationFn: (change: { lamp?: string; address?: string }) => patch(`arrivals/${String(arrival.id)}`, change),
        onSuccess: fresh,
    });
    return (
        <>
            <Clock detail={detail} />
            {arrival.ended_at != null && (
                <div className="mb-5">
                    <Notice tone={arrival.state === "accepted" ? "moss" : "ochre"}>
                        {arrival.state === "accepted" ? "Does its job" : arrival.state === "refused" ? "Does not do its job" : "Waited for no more"}, says{" "}
                        {arrival.ended_by}, <When at={arrival.ended_at} />
                        {arrival.note !== "" && <>: {arrival.note}</>}
                    </Notice>
                </div>
            )}
            {detail.causes.length > 0 && (
                <Sheet title="It may be">
                    <ol className="grid gap-2 text-sm">
                        {detail.causes.map((cause) => (
                            <li key={cause.what}>
                                <span className="font-semibold">{cause.what}</span>
                                <span className="block text-faded">{cause.todo}</span>
                            </li>
                        ))}
                    </ol>
                </Sheet>
            )}
            <Sheet title="On its network">
                <Seen detail={detail} />
                {open && arrival.answered_at == null && (
                    <form
                        className="mt-3 flex flex-wrap items-end gap-3 text-sm"
                        onSubmit={(event: FormEvent<HTMLFormElement>) => {
                            event.preventDefault();
                            const given = new FormData(event.currentTarget).get("address");
                            tell.mutate({ address: typeof given === "string" ? given : "" });
                        }}
                    >
                        <label className="grid gap-1">
                            Its address, if you know it
                            <input name="address" defaultValue={detail.address ?? ""} autoComplete="off" className={`${FIELD} w-44 font-mono`} />
                        </label>
                        <Button type="submit" disabled={tell.isPending}>
                            Look there
                        </Button>
                    </form>
                )}
                <Failure error={tell.error} />
            </Sheet>
            {open && arrival.answered_at == null && expected.lamp_table.length > 0 && (
                <Sheet title="At the board">
                    <LampQuestion
                        lamps={expected.lamp_table}
                        chosen={detail.lamp}
                        disabled={tell.isPending}
                        choose={(lamp) => {
                            tell.mutate({ lamp });
                        }}
                    />
                </Sheet>
            )}
            {(!open || arrival.answered_at != null) && detail.lamp != null && (
                <Sheet title="What its lamp did">
                    <LampPattern pattern={detail.lamp} />
                </Sheet>
            )}
            {open && arrival.answered_at == null && <FirstJoin arrival={arrival.id} />}
            <SerialLine arrival={arrival.id} open={open} />
            {detail.steps.length > 0 && (
                <Sheet title="What only a person can see">
                    <ol className="grid gap-2">
                        {detail.steps.map((step) => (
                            <OneStep key={step.place} arrival={arrival.id} step={step} open={open} fresh={fresh} />
                        ))}
                    </ol>
                </Sheet>
            )}
            {detail.to_give_back != null && <GiveBack arrival={arrival.id} taken={detail.to_give_back} />}
            {open && <End detail={detail} fresh={fresh} />}
        </>
    );
}

/** What was tuned on the card before this one. */
function GiveBack({ arrival, taken }: { arrival: number; taken: Export }) {
    const queries = useQueryClient();
    const give = useMutation({
        mutationFn: () => post(`devices/${encodeURIComponent(taken.device)}/exports/${String(taken.id)}/give`, {}),
        onSuccess: () => queries.invalidateQueries({ queryKey: ["arrivals", arrival] }),
    });
    return (
        <Sheet title="What was tuned before">
            <p className="mb-3 text-sm">
                Its card was made anew since {taken.device} exported its settings (<When at={taken.taken_at} />
                {taken.version !== "" && <>, {taken.version}</>}).
            </p>
            <Button
                disabled={give.isPending}
                onClick={() => {
                    give.mutate();
                }}
            >
                Give it its settings back
            </Button>
            <Failure error={give.error} />
        </Sheet>
    );
}

/** The page of a board; the service's own pages never go there by themselves. */
function PageLink({ url }: { url: string }) {
    return (
        <a href={url} target="_blank" rel="noopener noreferrer" className="text-blueprint underline">
            {url}
        </a>
    );
}

/** A clock against what is usual. */
function Clock({ detail }: { detail: ArrivalDetail }) {
    const { arrival, expected } = detail;
    const [now, setNow] = useState(Date.now);
    const open = arrival.ended_at == null && arrival.answered_at == null;
    useEffect(() => {
        if (!open) return;
        const clock = setInterval(() => {
            setNow(Date.now());
        }, 1000);
        return () => {
            clearInterval(clock);
        };
    }, [open]);
    const began = new Date(arrival.began_at).getTime();
    const until = arrival.answered_at ?? arrival.ended_at;
    const took = Math.max(0, ((until == null ? now : new Date(until).getTime()) - began) / 1000);
    const usual = expected.seconds ?? 180;
    return (
        <Sheet>
            <div className="mb-2 flex flex-wrap items-baseline justify-between gap-x-4">
                <span className="text-3xl font-semibold tabular-nums">{span(took)}</span>
                <span className="text-sm text-faded">
                    {arrival.answered_at == null ? "since the card went in" : "until it answered"}; usually {span(usual)}, by {expected.seconds_by}
                </span>
            </div>
            <div className="h-2 overflow-hidden rounded-sm bg-line" aria-hidden>
                <div
                    className={`h-full ${arrival.answered_at != null ? "bg-moss" : arrival.late ? "bg-ochre" : "bg-blueprint"}`}
                    style={{ width: `${String(Math.min(100, (took / usual) * 100))}%` }}
                />
            </div>
            <div className="mt-3">
                <Facts
                    rows={[
                        [
                            "device",
                            <Link key="device" to="/devices/$name" params={{ name: arrival.device }} className="text-blueprint underline">
                                {arrival.device}
                            </Link>,
                        ],
                        ["card", arrival.card == null ? "none of ours" : <Label key="card">{arrival.card}</Label>],
                        ["on it", arrival.base === "" ? "nothing known" : arrival.base],
                        ...(expected.page == null ? [] : ([["page", <PageLink key="page" url={expected.page} />]] as [string, React.ReactNode][])),
                        ...(expected.networks.length === 0 ? [] : ([["networks", expected.networks.join(", ")]] as [string, string][])),
                        ...(expected.internet ? ([["needs", "the internet at its first start"]] as [string, string][]) : []),
                        ...(arrival.waits_for === "" ? [] : ([["waits", arrival.waits_for]] as [string, string][])),
                    ]}
                />
            </div>
        </Sheet>
    );
}

const WHOSE: Record<string, "moss" | "ochre" | "oxide"> = { this: "moss", "name-only": "ochre", other: "oxide", "other-card": "oxide" };
const CHECKED: Record<string, string> = { passed: "text-moss", failed: "text-oxide", waiting: "text-faded", question: "text-ochre" };
const MARK: Record<string, string> = { passed: "✓", failed: "✕", waiting: "…", question: "?" };

function Seen({ detail }: { detail: ArrivalDetail }) {
    const { seen } = detail;
    return (
        <div className="grid gap-3 text-sm">
            {seen.boards.length === 0 && <p className="text-faded">Not found yet.</p>}
            {seen.boards.map((board) => (
                <Board key={`${board.address} ${JSON.stringify(board.ports)}`} board={board} />
            ))}
            {seen.checks.length > 0 && (
                <ul className="grid gap-1">
                    {seen.checks.map((check) => (
                        <li key={check.title} className="grid grid-cols-[1.2rem_minmax(0,1fr)]">
                            <span aria-label={check.state} className={CHECKED[check.state]}>
                                {MARK[check.state]}
                            </span>
                            <span className="[overflow-wrap:anywhere]">
                                {check.title} <span className="text-faded">{check.words}</span>
                            </span>
                        </li>
                    ))}
                </ul>
            )}
            {seen.logins
                .filter((login) => login.state === "open")
                .map((login) => (
                    <Notice key={login.user} tone="oxide">
                        {login.user} gets in with the password that everybody knows.
                    </Notice>
                ))}
            {seen.logins
                .filter((login) => login.state === "not asked" || login.state === "any password")
                .map((login) => (
                    <Notice key={login.user} tone="oxide">
                        The page for {login.user} opens {login.state === "not asked" ? "without a password" : "with any password"}.
                    </Notice>
                ))}
            {seen.blind.map((why) => (
                <p key={why} className="text-faded">
                    {why}
                </p>
            ))}
        </div>
    );
}

function Board({ board }: { board: SeenBoard }) {
    const short = (text: string) => <span title={text} className="font-mono">{text.slice(0, 16)}…</span>;
    const rows: [string, React.ReactNode][] = [["address", <span key="address" className="font-mono">{board.address}</span>], ["found by", board.found_by.join(", ")]];
    if (board.clock_ahead != null && Math.abs(board.clock_ahead) > 60)
        rows.push(["its clock", `${span(Math.abs(board.clock_ahead))} ${board.clock_ahead < 0 ? "behind" : "ahead"}`]);
    if (board.version != null) rows.push(["version", board.version]);
    if (board.mac != null) rows.push(["hardware address", <span key="mac" className="font-mono">{board.mac}</span>]);
    if (board.host_key != null) rows.push(["SSH key", short(board.host_key)]);
    if (board.certificate != null) rows.push(["certificate", short(board.certificate)]);
    return (
        <div className="grid gap-2">
            <Notice tone={WHOSE[board.whose] ?? "ochre"}>
                {board.words}. {board.answers ? "It answers." : (board.problem ?? "It does not answer yet.")}
            </Notice>
            <Facts rows={rows} />
        </div>
    );
}

function OneStep({ arrival, step, open, fresh }: { arrival: number; step: Step; open: boolean; fresh: (made: ArrivalDetail) => void }) {
    const [note, setNote] = useState(step.note);
    const tell = useMutation({
        mutationFn: (done: boolean) => put(`arrivals/${String(arrival)}/steps/${String(step.place)}`, { done, note }),
        onSuccess: fresh,
    });
    const done = step.done_at != null;
    return (
        <li className="grid gap-1 border-t border-line pt-2 text-sm first:border-t-0 first:pt-0">
            <label className="grid min-h-11 grid-cols-[1.6rem_minmax(0,1fr)] items-center">
                <input
                    type="checkbox"
                    checked={done}
                    disabled={!open || tell.isPending}
                    onChange={(event) => {
                        tell.mutate(event.target.checked);
                    }}
                />
                <span className="text-base">{step.words}</span>
            </label>
            {done ? (
                <span className="pl-[1.6rem] text-faded">
                    {step.done_by}, <When at={step.done_at} />
                    {step.note !== "" && <>: {step.note}</>}
                </span>
            ) : (
                open && (
                    <input
                        aria-label={`What was seen: ${step.words}`}
                        placeholder="what was seen"
                        value={note}
                        maxLength={1000}
                        onChange={(event) => {
                            setNote(event.target.value);
                        }}
                        className={`${FIELD} ml-[1.6rem]`}
                    />
                )
            )}
            <Failure error={tell.error} />
        </li>
    );
}

function End({ detail, fresh }: { detail: ArrivalDetail; fresh: (made: ArrivalDetail) => void }) {
    const [note, setNote] = useState("");
    const [description, setDescription] = useState("");
    const [accepted, setAccepted] = useState<string[]>([]);
    const queries = useQueryClient();
    const end = useMutation({
        mutationFn: (how: string) => post(`arrivals/${String(detail.arrival.id)}/end`, {
                how,
                note,
                accept: accepted,
                description: how === "accepted" && description.trim() !== "" ? description : null,
            }),
        onSuccess: async (made) => {
            fresh(made);
            await queries.invalidateQueries({ queryKey: ["devices"] });
            await queries.invalidateQueries({ queryKey: ["outages"] });
        },
    });
    const open = detail.cautions.some((caution) => !accepted.includes(caution.name));
    return (
        <Sheet title="Does it do its job?">
            <div className="grid gap-3">
                <Accept cautions={detail.cautions} accepted={accepted} change={setAccepted} />
                <label className="grid gap-1 text-sm">
                    What was seen
                    <textarea
                        rows={2}
                        value={note}
                        maxLength={1000}
                        onChange={(event) => {
                            setNote(event.target.value);
                        }}
                        className={FIELD}
                    />
                </label>
                <label className="grid gap-1 text-sm">
                    What it is, for the others (its notes, if they shall be others)
                    <input
                        value={description}
                        maxLength={1000}
                        onChange={(event) => {
                            setDescription(event.target.value);
                        }}
                        className={FIELD}
                    />
                </label>
                <Photo device={detail.arrival.device} />
                <div className="flex flex-wrap gap-3">
                    <Button
                        look="main"
                        disabled={open || end.isPending}
                        onClick={() => {
                            end.mutate("accepted");
                        }}
                    >
                        It does its job
                    </Button>
                    <Button
                        disabled={note.trim() === "" || end.isPending}
                        title="Say above what was seen"
                        onClick={() => {
                            end.mutate("refused");
                        }}
                    >
                        It does not
                    </Button>
                    <Button
                        disabled={end.isPending}
                        onClick={() => {
                            end.mutate("stopped");
                        }}
                    >
                        Wait no more
                    </Button>
                </div>
                <Failure error={end.error} />
            </div>
        </Sheet>
    );
}
