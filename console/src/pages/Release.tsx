// One release: what it is and needs, its disk, what was found, its files, its sheet, where it came
// from, who carries it.
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link, useNavigate, useParams } from "@tanstack/react-router";
import { type ReactNode, useState } from "react";

import { type ReleaseDetail, get, ofRelease, post, put, remove } from "../api/client";
import { DiskMap } from "../parts/DiskMap";
import { Files } from "../parts/Files";
import { Size, When } from "../parts/text";
import { Button, FIELD, Facts, Failure, Label, Notice, Page, Sheet, State, Table } from "../parts/ui";

export function Release() {
    const { name = "" } = useParams({ strict: false });
    const detail = useQuery({ queryKey: ["releases", name], queryFn: () => get(ofRelease(name)) });
    const data = detail.data;
    return (
        <Page title={name} aside={data !== undefined && <State name={data.release.state} />}>
            <Failure error={detail.error} />
            {data !== undefined && (
                <>
                    <Standing detail={data} />
                    <Sheet>
                        <Facts rows={facts(data)} />
                    </Sheet>
                    <Sheet title={`Disk, ${data.table} ${data.disk_id}`}>
                        <DiskMap length={data.release.raw_size} partitions={data.partitions} gaps={data.inspection.gaps ?? []} />
                        <Findings detail={data} />
                    </Sheet>
                    <Sheet title="What the board does at its first start">
                        <FirstBoot detail={data} />
                    </Sheet>
                    <Sheet title="Files">
                        <Files of={{ release: name }} partitions={data.partitions} />
                    </Sheet>
                    <Sheet title="Cards that carry it">
                        <Carriers detail={data} />
                    </Sheet>
                    <Sheet title="Where it came from">
                        <Facts rows={origin(data)} />
                    </Sheet>
                    <SheetText detail={data} />
                    {data.carriers.length === 0 && <TakeAway name={name} />}
                </>
            )}
        </Page>
    );
}

/** A release that nobody ever carried can go again. */
function TakeAway({ name }: { name: string }) {
    const navigate = useNavigate();
    const gone = useMutation({
        mutationFn: () => remove(ofRelease(name)),
        onSuccess: () => navigate({ to: "/catalogue" }),
    });
    return (
        <div className="grid gap-2">
            <div>
                <Button
                    title="Only while no card was ever written with it"
                    disabled={gone.isPending}
                    onClick={() => {
                        gone.mutate();
                    }}
                >
                    Take the release away
                </Button>
            </div>
            <Failure error={gone.error} />
        </div>
    );
}

function facts({ release, ...detail }: ReleaseDetail): [string, ReactNode][] {
    const rows: [string, ReactNode][] = [
        ["date", release.dated ?? "-"],
        ["suits", release.boards.join(", ")],
        ["architecture", detail.inspection.architectures?.join(", ") ?? ""],
        ["boots by", detail.inspection.boot?.join(", ") ?? ""],
        [
            "smallest card",
            <>
                <Size bytes={release.smallest_card} />
                {detail.declared_card != null && detail.declared_card !== detail.computed_card && (
                    <span className="text-faded">
                        {" "}
                        (the image needs <Size bytes={detail.computed_card} />, its sheet says <Size bytes={detail.declared_card} />; the
                        larger counts)
                    </span>
                )}
            </>,
        ],
        ["advised card", detail.advised_card == null ? "" : <Size bytes={detail.advised_card} />],
        [
            "in use",
            <>
                <Size bytes={release.content} /> of <Size bytes={release.raw_size} />
                {detail.shrunk_card != null && (
                    <span className="text-faded">
                        {" "}
                        (shrunk, a card of <Size bytes={detail.shrunk_card} /> would do)
                    </span>
                )}
            </>,
        ],
        ["new in the vault", <Size key="stored" bytes={release.stored} />],
        ["notes", detail.notes ?? ""],
        ["licence", detail.licence ?? ""],
        [
            "guides",
            detail.links.length === 0
                ? ""
                : detail.links.map((link) => (
                      <a key={link.url} href={link.url} rel="noreferrer" target="_blank" className="mr-4 text-blueprint underline">
                          {link.title}
                      </a>
                  )),
        ],
        ["default logins", detail.logins.map((one) => `${one.user} / ${one.password ?? "set at first use"} (${one.at ?? "-"})`).join(", ")],
    ];
    return rows.filter(([, value]) => value !== "");
}

function origin({ release, ...detail }: ReleaseDetail): [string, ReactNode][] {
    const came = detail.origin;
    const digest = (text: string) => <code className="font-mono text-xs break-all">{text}</code>;
    const rows: [string, ReactNode][] = [
        ["from", came.from === "" ? release.source : came.from],
        ["of the archive", came.member ?? ""],
        ["added", <span key="added"><When at={release.added_at} /> by {release.added_by}</span>],
        ["packed", <span key="packed"><Size bytes={release.packed_size} />, {release.packing}{detail.kept ? ", the file is kept" : ""}</span>],
        ["packed SHA-256", digest(release.packed_sha256)],
        ["raw", <Size key="raw" bytes={release.raw_size} />],
        ["raw SHA-256", digest(release.raw_sha256)],
        [
            "checked",
            came.compared_with == null
                ? "no published SHA-256 was given"
                : `the published SHA-256 is that of the ${came.compared_with} file`,
        ],
        ["same content as", came.same_as?.join(", ") ?? ""],
        [
            "get it",
            <span key="get" className="flex gap-4">
                <a href={`/api/v1/${ofRelease(release.name, "/image")}`} download className="text-blueprint underline">
                    raw image, equal in everything but free bytes
                </a>
                {detail.kept && (
                    <a href={`/api/v1/${ofRelease(release.name, "/original")}`} download className="text-blueprint underline">
                        the file as it came
                    </a>
                )}
            </span>,
        ],
    ];
    return rows.filter(([, value]) => value !== "");
}

/** State, where it is current, what was noted at the bench, and the actions for all of them. */
function Standing({ detail }: { detail: ReleaseDetail }) {
    const queries = useQueryClient();
    const { name, state, boards, current_for: currentFor } = detail.release;
    const fresh = (data: ReleaseDetail) => {
        queries.setQueryData(["releases", name], data);
    };
    const [reason, setReason] = useState("");
    const [seen, setSeen] = useState({ board: boards[0] ?? "", note: "" });
    const setState = useMutation({
        mutationFn: (to: string) => put(ofRelease(name, "/state"), { state: to, reason }),
        onSuccess: fresh,
    });
    const makeCurrent = useMutation({
        mutationFn: () => put(ofRelease(name, "/current"), { boards: [] }),
        onSuccess: fresh,
    });
    const note = useMutation({
        mutationFn: (boots: boolean) => post(ofRelease(name, "/evidence"), { ...seen, boots }),
        onSuccess: (data) => {
            fresh(data);
            setSeen({ ...seen, note: "" });
        },
    });
    const why = detail.states[0];
    const allCurrent = boards.every((board) => currentFor.includes(board));
    return (
        <Sheet>
            {state === "withdrawn" && (
                <Notice tone="oxide">
                    Withdrawn by {why?.operator}: {why?.reason}. It is not written unless somebody gives a reason, which is recorded.
                </Notice>
            )}
            {state === "draft" && <Notice tone="ochre">A draft: devices do not get it by themselves. Try it, then release it.</Notice>}
            <div className="mt-2 flex flex-wrap items-center gap-3 text-sm">
                <span>
                    {currentFor.length === 0 ? "current nowhere" : <>current on <b>{currentFor.join(", ")}</b></>}
                </span>
                {state === "released" && !allCurrent && (
                    <Button
                        onClick={() => {
                            makeCurrent.mutate();
                        }}
                    >
                        Make it current on {boards.join(", ")}
                    </Button>
                )}
                {state !== "released" && (
                    <Button
                        onClick={() => {
                            setState.mutate("released");
                        }}
                    >
                        Release it
                    </Button>
                )}
                {state !== "withdrawn" && (
                    <form
                        className="ml-auto flex items-center gap-2"
                        onSubmit={(event) => {
                            event.preventDefault();
                            setState.mutate("withdrawn");
                        }}
                    >
                        <input
                            required
                            aria-label="Reason to withdraw it"
                            placeholder="reason to withdraw it"
                            value={reason}
                            onChange={(event) => {
                                setReason(event.target.value);
                            }}
                            className={FIELD}
                        />
                        <Button type="submit">Withdraw</Button>
                    </form>
                )}
            </div>
            <div className="mt-3 flex flex-wrap items-center gap-2 text-sm">
                <span>Seen at the bench: on</span>
                <select
                    aria-label="Board model"
                    value={seen.board}
                    onChange={(event) => {
                        setSeen({ ...seen, board: event.target.value });
                    }}
                    className={FIELD}
                >
                    {boards.map((board) => (
                        <option key={board}>{board}</option>
                    ))}
                </select>
                <input
                    aria-label="Note"
                    placeholder="in words, if you like"
                    value={seen.note}
                    onChange={(event) => {
                        setSeen({ ...seen, note: event.target.value });
                    }}
                    className={`${FIELD} w-64`}
                />
                <Button
                    onClick={() => {
                        note.mutate(true);
                    }}
                >
                    It boots
                </Button>
                <Button
                    onClick={() => {
                        note.mutate(false);
                    }}
                >
                    It does not boot
                </Button>
            </div>
            <Failure error={setState.error ?? makeCurrent.error ?? note.error} />
            {detail.evidence.length > 0 && (
                <ul className="mt-2 grid gap-0.5 text-sm">
                    {detail.evidence.map((one) => (
                        <li key={one.at}>
                            <State name={one.boots ? "boots" : "did not boot"} /> on {one.board}, <When at={one.at} /> by {one.operator}
                            {one.note === "" ? "" : `: ${one.note}`}
                        </li>
                    ))}
                </ul>
            )}
        </Sheet>
    );
}

function Findings({ detail }: { detail: ReleaseDetail }) {
    const findings = detail.inspection.findings ?? [];
    if (findings.length === 0) return <p className="mt-3 text-sm text-faded">Nothing noteworthy was found.</p>;
    return (
        <ul className="mt-3 grid gap-1 text-sm">
            {findings.map((finding) => (
                <li key={finding.text} className="grid grid-cols-[6rem_1fr]">
                    <State name={finding.severity} />
                    <span>{finding.text}</span>
                </li>
            ))}
        </ul>
    );
}

function FirstBoot({ detail }: { detail: ReleaseDetail }) {
    const boot = detail.first_boot;
    const grower = detail.inspection.grower;
    return (
        <div className="grid gap-1 text-sm">
            <p>
                {boot.minutes == null ? "How long it takes is not known." : `It takes ${String(boot.minutes)} minutes.`}{" "}
                {boot.internet && "It needs the internet."} {boot.page != null && <>Then {boot.page} answers.</>}{" "}
                {grower != null && <>The root file system is enlarged by {grower}.</>}
            </p>
            {boot.steps.length > 0 && (
                <ol className="list-decimal pl-5">
                    {boot.steps.map((step) => (
                        <li key={step}>{step}</li>
                    ))}
                </ol>
            )}
        </div>
    );
}

function Carriers({ detail }: { detail: ReleaseDetail }) {
    if (detail.carriers.length === 0) return <p className="text-sm text-faded">No device&apos;s card carries it now.</p>;
    const left = detail.cards - detail.carriers.length;
    return (
        <>
        <Table head={["device", "card", "written"]}>
            {detail.carriers.map((one) => (
                <tr key={one.card}>
                    <td>
                        {one.device == null ? (
                            "of no device"
                        ) : (
                            <Link to="/devices/$name" params={{ name: one.device }} className="font-semibold text-blueprint underline">
                                {one.device}
                            </Link>
                        )}
                        {one.device != null && !one.carried && <span className="text-faded"> has a newer card</span>}
                    </td>
                    <td>
                        <Label>{one.card}</Label>
                    </td>
                    <td>
                        <When at={one.written_at} />
                    </td>
                </tr>
            ))}
        </Table>
        {left > 0 && (
            <p className="mt-2 text-sm">
                <Link to="/cards" search={{ carries: detail.release.name } as never} className="font-semibold text-blueprint underline">
                    {left} more cards carry it
                </Link>
            </p>
        )}
        </>
    );
}

function SheetText({ detail }: { detail: ReleaseDetail }) {
    const queries = useQueryClient();
    const { name } = detail.release;
    const [text, setText] = useState<string>();
    const save = useMutation({
        mutationFn: (sheet: string) => put(ofRelease(name, "/sheet"), { sheet }),
        onSuccess: (fresh) => {
            queries.setQueryData(["releases", name], fresh);
            setText(undefined);
        },
    });
    return (
        <Sheet title={`Release sheet, text ${String(detail.sheet_revision)}`}>
            {text === undefined ? (
                <>
                    <pre className="overflow-x-auto font-mono text-xs">{detail.sheet}</pre>
                    <Button
                        className="mt-2"
                        onClick={() => {
                            setText(detail.sheet);
                        }}
                    >
                        Revise
                    </Button>
                </>
            ) : (
                <form
                    className="grid gap-2"
                    onSubmit={(event) => {
                        event.preventDefault();
                        save.mutate(text);
                    }}
                >
                    <textarea
                        aria-label="Text of the sheet"
                        value={text}
                        spellCheck={false}
                        rows={Math.min(30, text.split("\n").length + 1)}
                        onChange={(event) => {
                            setText(event.target.value);
                        }}
                        className={`${FIELD} font-mono text-xs`}
                    />
                    <Failure error={save.error} />
                    <div className="flex gap-2">
                        <Button type="submit" look="main" disabled={save.isPending}>
                            Save as a new text
                        </Button>
                        <Button
                            onClick={() => {
                                setText(undefined);
                            }}
                        >
                            Leave it
                        </Button>
                    </div>
                </form>
            )}
        </Sheet>
    );
}
