// Rounds: planning one, one with its cards, those that were.
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link, useNavigate, useParams } from "@tanstack/react-router";
import { type FormEvent, useState } from "react";

import { type NewRound, type Round as RoundRow, type RoundDetail, type RoundEntry, get, post } from "../api/client";
import { useBenches } from "../parts/Benches";
import { ConfirmByNumber } from "../parts/Confirm";
import { useFilters } from "../parts/List";
import { Older, useOlder } from "../parts/Older";
import { AtSlot, Turns, isOpen, useRound } from "../parts/RoundView";
import { Size, When, span } from "../parts/text";
import { Amount, Bar, Button, Empty, FIELD, Facts, Failure, Label, Notice, Page, Sheet, State, Table } from "../parts/ui";
import { slotWords } from "../parts/slot";

export function Rounds() {
    const read = (before?: number) => get(before === undefined ? "rounds" : `rounds?before=${String(before)}`);
    const { list: rounds, items } = useOlder(["rounds"], read);
    return (
        <Page title="Rounds">
            <Plan />
            <Failure error={rounds.error} />
            {rounds.data !== undefined && items.length === 0 ? (
                <Empty>No round yet. Name the devices above: each blank card that goes into a slot then becomes the card of the next one.</Empty>
            ) : (
                <Table head={["#round", "title", "state", "#made", "by", "planned"]}>
                    {items.map((round) => (
                        <Row key={round.id} round={round} />
                    ))}
                </Table>
            )}
            <Older list={rounds} word="Older rounds" />
        </Page>
    );
}

function Row({ round }: { round: RoundRow }) {
    return (
        <tr>
            <Amount>{round.id}</Amount>
            <td>
                <Link to="/rounds/$id" params={{ id: String(round.id) }} className="font-semibold text-blueprint underline">
                    {round.title}
                </Link>
            </td>
            <td>
                <State name={round.state} />
            </td>
            <Amount>
                {round.done} of {round.cards}
            </Amount>
            <td>{round.operator}</td>
            <td className="whitespace-nowrap">
                <When at={round.created_at} />
            </td>
        </tr>
    );
}

/** The devices that a text names: the column `name` of a table, or else the first word of each line. */
function namesIn(text: string): string[] {
    const rows = text.split("\n").map((line) => line.split(/[,;\t]/).map((cell) => cell.trim().replace(/^"|"$/g, "")));
    const column = rows[0]?.indexOf("name") ?? -1;
    const cells = (column >= 0 ? rows.slice(1) : rows).map((row) => row[Math.max(0, column)] ?? "");
    return [...new Set(cells.filter((name) => name !== ""))];
}

/** Names of all devices that the filters of their list find. */
async function found(filters: Record<string, string | undefined>): Promise<string[]> {
    const names: string[] = [];
    let after: string | null | undefined;
    do {
        const query = new URLSearchParams();
        for (const [name, value] of Object.entries({ ...filters, after: after ?? undefined, limit: "200" })) {
            if (value !== undefined) query.set(name, value);
        }
        const page = await get(`devices?${query.toString()}`);
        names.push(...page.items.map((device) => device.name));
        after = page.next;
    } while (after != null && names.length < 500);
    return names;
}

function Plan() {
    const [{ backup, ...filters }] = useFilters();
    const filtered = Object.values(filters).some((value) => value !== undefined);
    const [text, setText] = useState<string>();
    const asked = useQuery({ queryKey: ["devices", "find", "round", filters], queryFn: () => found(filters), enabled: filtered });
    const names = text ?? (asked.data ?? []).join("\n");
    const queries = useQueryClient();
    const benches = (useBenches().data ?? []).filter((one) => one.state === "connected").map((one) => one.name);
    const navigate = useNavigate();
    const plan = useMutation({
        mutationFn: (wanted: Partial<NewRound>) => post("rounds", wanted),
        onSuccess: async (made) => {
            queries.setQueryData(["rounds", made.round.id], made);
            await navigate({ to: "/rounds/$id", params: { id: String(made.round.id) } });
        },
    });
    return (
        <Sheet title={backup === undefined ? "Plan a round: each device gets a card" : `Plan copies of ${backup}`}>
            <form
                className="grid gap-3 text-sm"
                onSubmit={(event: FormEvent<HTMLFormElement>) => {
                    event.preventDefault();
                    const given = new FormData(event.currentTarget);
                    const word = (name: string) => {
                        const value = given.get(name);
                        return typeof value === "string" ? value.trim() : "";
                    };
                    plan.mutate({
                        title: word("title"),
                        devices: namesIn(names),
                        backup,
                        copies: Number(word("copies")),
                        trial_first: given.has("trial"),
                        wipe_free: given.has("wipe"),
                        stop_after: Number(word("stop")) || 3,
                        slots: given.getAll("at").filter((one) => typeof one === "string"),
                    });
                }}
            >
                <div className="grid gap-4 sm:grid-cols-[minmax(0,1fr)_minmax(0,1fr)]">
                    <label className="grid content-start gap-1">
                        {backup === undefined ? "Devices, one a line, or a table with a column “name”" : "Devices that get it with their own settings"}
                        <textarea
                            rows={6}
                            value={names}
                            onChange={(event) => {
                                setText(event.target.value);
                            }}
                            className={`${FIELD} font-mono`}
                        />
                        <span className="text-faded">{namesIn(names).length} devices</span>
                    </label>
                    <div className="grid content-start gap-3">
                        {backup !== undefined && (
                            <label className="grid gap-1">
                                Copies of it as it is: two boards with one identity clash
                                <input name="copies" type="number" min={0} max={500} defaultValue={0} className={`${FIELD} w-24`} />
                            </label>
                        )}
                        <label className="grid gap-1">
                            What it is called
                            <input name="title" maxLength={80} placeholder="found by itself" className={FIELD} />
                        </label>
                        {benches.length > 0 && (
                            <fieldset className="grid gap-1">
                                <legend>Where the cards are made</legend>
                                {["here", ...benches].map((place) => (
                                    <label key={place} className="flex items-center gap-2">
                                        <input type="checkbox" name="at" value={place} defaultChecked={place === "here"} />
                                        {place === "here" ? "at the service’s own computer" : place}
                                    </label>
                                ))}
                            </fieldset>
                        )}
                        <label className="flex items-center gap-2">
                            <input type="checkbox" name="trial" />
                            one card first; the others wait until it does its job
                        </label>
                        <label className="flex items-center gap-2">
                            <input type="checkbox" name="wipe" />
                            wipe what stays free on the cards
                        </label>
                        <label className="flex items-center gap-2">
                            stops by itself after
                            <input name="stop" type="number" min={1} max={1000} defaultValue={3} className={`${FIELD} w-20`} />
                            failures
                        </label>
                    </div>
                </div>
                <div>
                    <Button type="submit" look="main" disabled={plan.isPending}>
                        {plan.isPending ? "Looking at each…" : "Show the plan"}
                    </Button>
                </div>
                <Failure error={plan.error ?? asked.error} />
            </form>
        </Sheet>
    );
}

export function Round() {
    const { id } = useParams({ strict: false }) as { id: string };
    const detail = useRound(Number(id));
    const data = detail.data;
    return (
        <Page
            title={data === undefined ? `Round ${id}` : `Round ${id}: ${data.round.title}`}
            aside={
                <>
                    {data !== undefined && isOpen(data.round.state) && (
                        <Link to="/large" className="text-sm font-semibold text-blueprint underline">
                            Large view
                        </Link>
                    )}
                    <Link to="/rounds" className="text-sm font-semibold text-blueprint underline">
                        All rounds
                    </Link>
                    <a href={`/api/v1/rounds/${id}/report`} download={`round-${id}.csv`} className="text-sm font-semibold text-blueprint underline">
                        Report
                    </a>
                </>
            }
        >
            <Failure error={detail.error} />
            {data !== undefined && <Stand detail={data} />}
        </Page>
    );
}

function Stand({ detail }: { detail: RoundDetail }) {
    const { round } = detail;
    return (
        <>
            <Sheet>
                <div className="grid gap-3">
                    <div className="flex flex-wrap items-baseline gap-x-4">
                        <State name={round.state} />
                        {round.why != null && <span>{round.why}</span>}
                        <span className="ml-auto text-sm">
                            {round.done} of {round.cards} made
                        </span>
                    </div>
                    <Bar done={round.done} total={round.cards} />
                    <Facts
                        rows={[
                            ["planned", <span key="planned"><When at={round.created_at} /> by {round.operator}</span>],
                            ...(round.trial_first ? [["trial", "the first card must do its job before the others are made"] as [string, string]] : []),
                            ["stops", `by itself after ${String(round.stop_after)} failures; ${String(round.failures)} since it last went on`],
                            ...((round.slots ?? []).length > 0 ? [["made at", (round.slots ?? []).map((place) => (place === "here" ? "the service’s own computer" : place)).join(", ")] as [string, string]] : []),
                            ...(round.wipe_free ? [["wiped", "nothing is left of what was on the cards before"] as [string, string]] : []),
                        ]}
                    />
                    <Turns detail={detail} />
                    {round.state === "planned" && <Begin detail={detail} />}
                    {isOpen(round.state) && <Free detail={detail} />}
                </div>
            </Sheet>
            {detail.slots.length > 0 && (
                <div className="mb-5 grid gap-3 [grid-template-columns:repeat(auto-fill,minmax(15rem,1fr))]">
                    {detail.slots.map((at) => (
                        <section key={at.slot} aria-label={`Slot ${slotWords(at.slot)}`} className="grid content-start gap-2 rounded-sm border border-line bg-sheet p-3">
                            <h2 className="text-sm font-semibold text-faded">Slot {slotWords(at.slot)}</h2>
                            {at.words === "" ? <p className="text-sm text-faded">nothing to do</p> : <AtSlot at={at} />}
                        </section>
                    ))}
                </div>
            )}
            <Table head={["#", "device", "gets", "state", "card", "#slot", "#took", "why", ""]}>
                {detail.entries.map((entry) => (
                    <Entry key={entry.place} round={round} entry={entry} />
                ))}
            </Table>
        </>
    );
}

function Entry({ round, entry }: { round: RoundRow; entry: RoundEntry }) {
    const queries = useQueryClient();
    const turn = useMutation({
        mutationFn: (word: string) => post(`rounds/${String(round.id)}/entries/${String(entry.place)}/turn`, { turn: word }),
        onSuccess: (fresh) => {
            queries.setQueryData(["rounds", round.id], fresh);
        },
    });
    const over = round.state === "done" || round.state === "stopped";
    const word = entry.state === "waiting" ? "skip" : "again";
    return (
        <tr>
            <Amount>{entry.place}</Amount>
            <td className="font-semibold">{entry.device ?? "-"}</td>
            <td>
                {entry.base}
                {entry.smallest_card > 0 && (
                    <span className="block text-faded">
                        needs <Size bytes={entry.smallest_card} />
                    </span>
                )}
            </td>
            <td>
                <State name={entry.state} />
            </td>
            <td>{entry.card == null ? "-" : <Label>{entry.card}</Label>}</td>
            <Amount>{entry.slot == null ? "-" : slotWords(entry.slot)}</Amount>
            <Amount>{entry.seconds == null ? "-" : span(entry.seconds)}</Amount>
            <td className="[overflow-wrap:anywhere]">
                {entry.why ?? ""}
                {turn.error !== null && <span className="text-oxide"> {turn.error.message}</span>}
            </td>
            <td>
                {!over && entry.state !== "at work" && (
                    <Button
                        disabled={turn.isPending}
                        onClick={() => {
                            turn.mutate(word);
                        }}
                    >
                        {word === "skip" ? "Leave out" : "Again"}
                    </Button>
                )}
            </td>
        </tr>
    );
}

function Begin({ detail }: { detail: RoundDetail }) {
    const queries = useQueryClient();
    const { id, waiting } = detail.round;
    const begin = useMutation({
        mutationFn: (given: { cards: number; accept: string[] }) => post(`rounds/${String(id)}/confirm`, given),
        onSuccess: async (fresh) => {
            queries.setQueryData(["rounds", id], fresh);
            await queries.invalidateQueries({ queryKey: ["rounds"] });
        },
    });
    return (
        <div className="grid gap-3">
            <p className="text-sm">
                From then on each blank card that goes into one of its slots is written, the next of {waiting} in turn. A card that holds anything is
                left alone, unless it is freed by its label.
            </p>
            <ConfirmByNumber
                word="Begin the round"
                cautions={detail.cautions}
                disabled={begin.isPending}
                confirm={(cards, accept) => {
                    begin.mutate({ cards, accept });
                }}
            />
            <Failure error={begin.error} />
        </div>
    );
}

/** A card that is not blank may be written when somebody says its label. */
function Free({ detail }: { detail: RoundDetail }) {
    const queries = useQueryClient();
    const [typed, setTyped] = useState("");
    const free = useMutation({
        mutationFn: (card: string) => post(`rounds/${String(detail.round.id)}/cards`, { card }),
        onSuccess: async () => {
            setTyped("");
            await queries.invalidateQueries({ queryKey: ["rounds", detail.round.id] });
        },
    });
    return (
        <form
            className="grid gap-2 text-sm"
            onSubmit={(event) => {
                event.preventDefault();
                free.mutate(typed.trim());
            }}
        >
            <div className="flex flex-wrap items-end gap-3">
                <label className="grid gap-1">
                    A card that is not blank, and may be written: its label
                    <input
                        value={typed}
                        autoComplete="off"
                        placeholder="C-0000"
                        onChange={(event) => {
                            // What was said of the last card goes when another is named.
                            free.reset();
                            setTyped(event.target.value);
                        }}
                        className={`${FIELD} w-40 font-mono`}
                    />
                </label>
                <Button type="submit" look="danger" disabled={typed.trim() === "" || free.isPending}>
                    Free it for this round
                </Button>
                {detail.freed.length > 0 && (
                    <span>
                        freed: <Label>{detail.freed.join(", ")}</Label>
                    </span>
                )}
            </div>
            {(free.data ?? []).map((lost) => (
                <Notice key={lost} tone="ochre">
                    Will be lost: {lost}
                </Notice>
            ))}
            <Failure error={free.error} />
        </form>
    );
}
