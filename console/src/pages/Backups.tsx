// Backups: what was read, when, why, what it cost and how far it is proven; one of them with its files.
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link, useNavigate, useParams } from "@tanstack/react-router";
import { useState } from "react";

import { type Backup as Row, type KeepReport, get, patch, post, put, remove, requestKey } from "../api/client";
import { DiskMap } from "../parts/DiskMap";
import { Files } from "../parts/Files";
import { JobView } from "../parts/JobView";
import { FilterBar, ListTable, useFilters, useList } from "../parts/List";
import { Size, When } from "../parts/text";
import { Amount, Button, FIELD, Facts, Failure, Label, Notice, Page, Sheet, State } from "../parts/ui";

/** The levels of a proof in words. */
const LEVELS: Record<string, string> = {
    bytes: "every byte is there",
    "file-systems": "its file systems are whole",
    files: "its files are there",
    boots: "it boots",
};

/** How far a backup can be relied upon, in a word with an icon. */
function Standing({ backup }: { backup: Row }) {
    if (backup.gone_at != null) return <State name="gone" />;
    if (backup.health === "damaged") return <State name="damaged" />;
    if (backup.health === "test-failed") return <State name="test failed" />;
    if (backup.proven != null) return <span title={LEVELS[backup.proven]} className="inline-flex gap-2"><State name="proven" /></span>;
    return <State name={backup.health === "verified" ? "verified" : "unverified"} />;
}

export function Backups() {
    const [filters, change] = useFilters();
    const list = useList<Row>("backups", filters);
    return (
        <Page
            title="Backups"
            aside={
                <Link to="/vault" className="text-blueprint underline">
                    The vault
                </Link>
            }
        >
            <FilterBar filters={filters} change={change} choices={[]} />
            <ListTable
                list={list}
                noun="backup"
                filters={filters}
                change={change}
                empty="No backup yet. Put a card into a slot and choose “Take a backup” on the Bench."
                columns={[
                    ["taken", "newest"],
                    ["backup", "name"],
                    ["device", "device"],
                    ["card", "card"],
                    ["because"],
                    ["#looks like"],
                    ["#costs"],
                    ["standing"],
                    [""],
                ]}
                row={(backup) => (
                    <tr key={backup.name}>
                        <td className="whitespace-nowrap">
                            <When at={backup.taken_at} /> by {backup.taken_by}
                        </td>
                        <td className="font-semibold">
                            <Link to="/backups/$name" params={{ name: backup.name }} className="text-blueprint underline">
                                {backup.name}
                            </Link>
                            {backup.pinned && <span className="text-faded" title="It stays whatever the keep rules say"> pinned</span>}
                        </td>
                        <td>{backup.device ?? "-"}</td>
                        <td>{backup.card == null ? "-" : <Label>{backup.card}</Label>}</td>
                        <td>{backup.reason === "" ? "-" : backup.reason}</td>
                        <Amount>
                            <Size bytes={backup.card_size} />
                        </Amount>
                        <Amount>
                            <Size bytes={backup.stored} />
                        </Amount>
                        <td>
                            <Standing backup={backup} />
                        </td>
                        <td>
                            <Link to="/rounds" search={{ backup: backup.name } as never} className="text-blueprint underline">
                                Copies
                            </Link>
                        </td>
                    </tr>
                )}
            />
            <div className="mt-5">
                <Keep />
            </div>
        </Page>
    );
}

const NUMBERS = [
    ["newest", "newest"],
    ["daily", "days"],
    ["weekly", "weeks"],
    ["monthly", "months"],
] as const;

/** How many backups stay, and what the rule would do now. */
function Keep() {
    const queries = useQueryClient();
    const report = useQuery({ queryKey: ["keep"], queryFn: () => get("keep") });
    const fresh = async (made: KeepReport) => {
        if (!made.done) queries.setQueryData(["keep"], made);
        else await queries.invalidateQueries({ queryKey: ["keep"] });
        await queries.invalidateQueries({ queryKey: ["backups"] });
    };
    const set = useMutation({ mutationFn: (rule: Record<"newest" | "daily" | "weekly" | "monthly", number>) => put("keep", { rule }), onSuccess: fresh });
    const now = useMutation({ mutationFn: () => post("keep/now", { dry_run: false }), onSuccess: fresh });
    const team = report.data?.rules.find((one) => one.device == null)?.rule;
    const go = report.data?.go ?? [];
    // What is not known is not "none": nothing is said of the rule before it was told.
    if (report.data === undefined) {
        return (
            <Sheet title="How many stay">
                {report.error == null ? <p className="text-sm text-faded">Asking for the rule…</p> : <Failure error={report.error} />}
            </Sheet>
        );
    }
    const frees = report.data.frees;
    return (
        <Sheet title="How many stay">
            <form
                key={JSON.stringify(team)}
                className="flex flex-wrap items-end gap-3 text-sm"
                onSubmit={(event) => {
                    event.preventDefault();
                    const form = new FormData(event.currentTarget);
                    const number = (name: string) => Number(form.get(name) ?? 0);
                    set.mutate({ newest: number("newest"), daily: number("daily"), weekly: number("weekly"), monthly: number("monthly") });
                }}
            >
                {NUMBERS.map(([name, label]) => (
                    <label key={name} className="grid gap-1">
                        {label}
                        <input
                            name={name}
                            type="number"
                            min={name === "newest" ? 1 : 0}
                            max={1000}
                            required
                            defaultValue={team?.[name] ?? (name === "newest" ? 3 : 0)}
                            className={`${FIELD} w-20 text-right tabular-nums`}
                        />
                    </label>
                ))}
                <Button type="submit" disabled={set.isPending}>
                    {team == null ? "Set this rule" : "Change the rule"}
                </Button>
            </form>
            <p className="mt-3 text-sm text-faded">
                {team == null
                    ? "There is no rule for the team: everything stays."
                    : go.length === 0
                      ? "Nothing goes by it now. Pinned ones and the newest whole one of each device always stay."
                      : `${String(go.length)} would go by it: ${go.slice(0, 6).join(", ")}${go.length > 6 ? " …" : ""}.`}{" "}
                {go.length > 0 && frees != null && (
                    <>
                        Tidying the vault frees <Size bytes={frees} /> then.{" "}
                    </>
                )}
                {go.length > 0 && frees == null && "How much that frees is not known, because something in the vault is damaged. "}
                Days, weeks and months are those of {report.data.zone}.
            </p>
            {go.length > 0 && (
                <div className="mt-2">
                    <Button
                        look="danger"
                        disabled={now.isPending}
                        onClick={() => {
                            now.mutate();
                        }}
                    >
                        Let them go now
                    </Button>
                </div>
            )}
            <Failure error={set.error ?? now.error ?? report.error} />
        </Sheet>
    );
}

export function Backup() {
    const { name } = useParams({ from: "/backups/$name" });
    const backup = useQuery({ queryKey: ["backups", "one", name], queryFn: () => get(`backups/${encodeURIComponent(name)}`) });
    const data = backup.data;
    return (
        <Page title={name} aside={data !== undefined && <Standing backup={data} />}>
            <Failure error={backup.error} />
            {data !== undefined && <Whole backup={data} />}
        </Page>
    );
}

function Whole({ backup }: { backup: Row }) {
    const queries = useQueryClient();
    const path = `backups/${encodeURIComponent(backup.name)}` as const;
    const key = ["backups", "one", backup.name];
    const change = useMutation({
        mutationFn: (told: { device?: string; reason?: string; pinned?: boolean }) => patch(path, told),
        onSuccess: (made) => {
            queries.setQueryData(key, made);
        },
    });
    const gone = backup.gone_at != null;
    return (
        <>
            {gone && (
                <div className="mb-5">
                    <Notice tone="ochre">
                        Its content was let go, <When at={backup.gone_at} />: {backup.gone_why}
                    </Notice>
                </div>
            )}
            {!gone && backup.health_words != null && (
                <div className="mb-5">
                    <Notice tone="oxide">
                        {backup.health === "damaged" ? (
                            <>
                                It cannot be restored: {backup.health_words}.{" "}
                                <Link to="/vault" className="underline">
                                    Inspect the vault
                                </Link>
                                , which mends it from the second vault; or take another backup while its card still works.
                            </>
                        ) : (
                            <>A restore test did not pass: {backup.health_words}. Take another backup while its card still works.</>
                        )}
                    </Notice>
                </div>
            )}
            <Sheet>
                <Facts
                    rows={[
                        [
                            "device",
                            backup.device == null ? (
                                "nobody's yet"
                            ) : (
                                <Link key="device" to="/devices/$name" params={{ name: backup.device }} className="text-blueprint underline">
                                    {backup.device}
                                </Link>
                            ),
                        ],
                        ["read from", backup.card == null ? "a disk image" : <Label key="card">{backup.card}</Label>],
                        ["because", backup.reason === "" ? "-" : backup.reason],
                        ["taken", <span key="taken"><When at={backup.taken_at} /> by {backup.taken_by}</span>],
                        ["looks like", <Size key="size" bytes={backup.card_size} />],
                        ["in use", <Size key="content" bytes={backup.content} />],
                        ["costs", <Size key="stored" bytes={backup.stored} />],
                        [
                            "smallest card",
                            <span key="smallest">
                                <Size bytes={backup.smallest_card} />
                                {backup.whole_card > backup.smallest_card && (
                                    <span className="text-faded">
                                        {" "}
                                        (<Size bytes={backup.whole_card} /> as it is; its last file system is shrunk for a smaller one)
                                    </span>
                                )}
                            </span>,
                        ],
                        ["verified", backup.verified === "" ? "not: its card was read once" : backup.verified],
                    ]}
                />
                {backup.remarks.map((remark) => (
                    <div key={remark} className="mt-3">
                        <Notice tone="ochre">{remark}</Notice>
                    </div>
                ))}
                <div className="mt-4">
                    <DiskMap length={backup.card_size} partitions={backup.partitions} />
                </div>
                {!gone && <CompareWith backup={backup} />}
            </Sheet>
            {!gone && <Proofs backup={backup} />}
            {!gone && (
                <Sheet title="Files">
                    <Files of={{ backup: backup.name }} partitions={backup.partitions} {...(backup.device == null ? {} : { device: backup.device })} />
                </Sheet>
            )}
            {!gone && (
                <Sheet title="Take it out">
                    <p className="mb-3 text-sm text-faded">The whole card as a file; it holds secrets as the card did.</p>
                    <Forms path={`${path}/image`} />
                    <ForSharing backup={backup.name} />
                </Sheet>
            )}
            <Sheet title="About it">
                <form
                    key={`${backup.reason} ${backup.device ?? ""}`}
                    className="flex flex-wrap items-end gap-3 text-sm"
                    onSubmit={(event) => {
                        event.preventDefault();
                        const form = new FormData(event.currentTarget);
                        const text = (name: string) => {
                            const given = form.get(name);
                            return typeof given === "string" ? given : "";
                        };
                        change.mutate({ device: text("device"), reason: text("reason") });
                    }}
                >
                    <label className="grid gap-1">
                        Device
                        <input name="device" defaultValue={backup.device ?? ""} autoComplete="off" className={`${FIELD} w-40`} />
                    </label>
                    <label className="grid grow gap-1">
                        Because
                        <input name="reason" defaultValue={backup.reason} maxLength={500} className={FIELD} />
                    </label>
                    <Button type="submit" disabled={change.isPending}>
                        Keep that
                    </Button>
                    <Button
                        disabled={change.isPending}
                        onClick={() => {
                            change.mutate({ pinned: !backup.pinned });
                        }}
                    >
                        {backup.pinned ? "Unpin" : "Pin: it stays whatever the rules say"}
                    </Button>
                </form>
                <Failure error={change.error} />
                {!gone && <LetGo backup={backup} />}
            </Sheet>
        </>
    );
}

/** The forms in which an image is taken out. */
function Forms({ path }: { path: string }) {
    return (
        <div className="flex flex-wrap gap-4 text-sm">
            {["", "gz", "xz", "zst", "zip"].map((pack) => (
                <a
                    key={pack}
                    href={`/api/v1/${path}${pack === "" ? "" : `?pack=${pack}`}`}
                    download
                    className="text-blueprint underline"
                >
                    {pack === "" ? "raw" : pack}
                </a>
            ))}
        </div>
    );
}

/** The same for somebody else: first what is taken out and what nobody can know, then the file. */
function ForSharing({ backup }: { backup: string }) {
    const [asked, ask] = useState(false);
    const path = `backups/${encodeURIComponent(backup)}/sharing` as const;
    const found = useQuery({ queryKey: ["sharing", backup], queryFn: () => get(path), enabled: asked });
    return (
        <div className="mt-4 border-t border-line pt-4 text-sm">
            <h3 className="mb-2 font-semibold">For somebody else</h3>
            {found.data === undefined ? (
                <>
                    <p className="mb-3 text-faded">Without the secrets and keys of its device. Every file is looked through first.</p>
                    <Button
                        disabled={found.isFetching}
                        onClick={() => {
                            ask(true);
                        }}
                    >
                        {found.isFetching ? "Looking through it …" : "See what would be taken out"}
                    </Button>
                </>
            ) : (
                <>
                    <ul className="mb-3 grid gap-1">
                        {found.data.removed.length === 0 && <li className="text-faded">Nothing is taken out.</li>}
                        {found.data.removed.map((one) => (
                            <li key={`${String(one.partition)}:${one.path}`}>
                                <span className="font-mono text-xs">
                                    {one.partition}:{one.path}
                                </span>{" "}
                                {one.why}
                            </li>
                        ))}
                    </ul>
                    <div className="mb-3 grid gap-2">
                        {found.data.unknown.map((words) => (
                            <Notice key={words} tone="ochre">
                                {words}
                            </Notice>
                        ))}
                    </div>
                    <Forms path={`${path}/image`} />
                </>
            )}
            <Failure error={found.error} />
        </div>
    );
}

/** Another backup of the same device beside it. */
function CompareWith({ backup }: { backup: Row }) {
    const go = useNavigate();
    const device = backup.device ?? undefined;
    const others = useQuery({
        queryKey: ["backups", "of", device],
        queryFn: () => get(`backups?device=${encodeURIComponent(device ?? "")}&limit=100`),
        enabled: device !== undefined,
    }).data?.items.filter((one) => one.name !== backup.name);
    if (others === undefined || others.length === 0) return null;
    return (
        <label className="mt-4 flex items-center gap-2 text-sm">
            Compare with
            <select
                value=""
                onChange={(event) => {
                    void go({ to: "/compare/$a/$b", params: { a: event.target.value, b: backup.name } });
                }}
                className={FIELD}
            >
                <option value="">another backup of {device}</option>
                {others.map((one) => (
                    <option key={one.name}>{one.name}</option>
                ))}
            </select>
        </label>
    );
}

function Proofs({ backup }: { backup: Row }) {
    const [job, setJob] = useState<number>();
    const prove = useMutation({
        mutationFn: (level: string) => post(`backups/${encodeURIComponent(backup.name)}/proofs`, { level }, requestKey()),
        onSuccess: (started) => {
            setJob(started.id);
        },
    });
    return (
        <Sheet title="What was shown of it">
            {backup.proofs.length === 0 && <p className="mb-3 text-sm text-faded">Nobody has proven it yet.</p>}
            <ul className="mb-3 grid gap-1 text-sm">
                {backup.proofs.map((proof) => (
                    <li key={proof.level} className="grid grid-cols-[1.2rem_minmax(0,1fr)]">
                        <span aria-label={proof.holds ? "holds" : "does not hold"} className={proof.holds ? "text-moss" : "text-oxide"}>
                            {proof.holds ? "✓" : "✕"}
                        </span>
                        <span>
                            {LEVELS[proof.level] ?? proof.level}: {proof.words}{" "}
                            <span className="text-faded">
                                (<When at={proof.at} />, {proof.by})
                            </span>
                        </span>
                    </li>
                ))}
            </ul>
            {job !== undefined && <JobView id={job} compact />}
            <div className="flex flex-wrap gap-2">
                <Button
                    disabled={prove.isPending}
                    onClick={() => {
                        prove.mutate("files");
                    }}
                >
                    Prove it now
                </Button>
                <Button
                    title="Where the bench has a stand-in board"
                    disabled={prove.isPending}
                    onClick={() => {
                        prove.mutate("boots");
                    }}
                >
                    Let a board try it
                </Button>
            </div>
            <Failure error={prove.error} />
        </Sheet>
    );
}

/** What goes does not come back: its name is typed. */
function LetGo({ backup }: { backup: Row }) {
    const queries = useQueryClient();
    const [typed, setTyped] = useState("");
    const go = useMutation({
        mutationFn: () => remove(`backups/${encodeURIComponent(backup.name)}`),
        onSuccess: () => queries.invalidateQueries({ queryKey: ["backups"] }),
    });
    return (
        <form
            className="mt-4 flex flex-wrap items-end gap-3 border-t border-line pt-4 text-sm"
            onSubmit={(event) => {
                event.preventDefault();
                go.mutate();
            }}
        >
            <label className="grid gap-1">
                Its name, to let its content go
                <input
                    value={typed}
                    autoComplete="off"
                    onChange={(event) => {
                        setTyped(event.target.value);
                    }}
                    className={`${FIELD} w-64 font-mono`}
                />
            </label>
            <Button type="submit" look="danger" disabled={typed !== backup.name || go.isPending}>
                Let it go
            </Button>
            <Failure error={go.error} />
        </form>
    );
}
