// The few building blocks that every page uses.
import { type ButtonHTMLAttributes, type ReactNode, useEffect } from "react";

type Tone = "ink" | "blueprint" | "oxide" | "moss" | "ochre" | "faded";

const TEXT: Record<Tone, string> = {
    ink: "text-ink",
    blueprint: "text-blueprint",
    oxide: "text-oxide",
    moss: "text-moss",
    ochre: "text-ochre",
    faded: "text-faded",
};

/** Each state has an icon, a word and a colour; the word alone would do. */
const STATES: Record<string, [string, Tone]> = {
    empty: ["○", "faded"],
    blank: ["□", "faded"],
    ours: ["◆", "blueprint"],
    foreign: ["◈", "ochre"],
    unfinished: ["◧", "ochre"],
    held: ["◆", "ochre"],
    mistrusted: ["✕", "oxide"],
    "in use": ["⊘", "ochre"],
    "no answer": ["?", "ochre"],
    proven: ["✓", "moss"],
    whole: ["✓", "moss"],
    damaged: ["✕", "oxide"],
    "test failed": ["✕", "oxide"],
    unverified: ["?", "ochre"],
    "no sign": ["✓", "blueprint"],
    forged: ["✕", "oxide"],
    bad: ["✕", "oxide"],
    stopped: ["–", "ochre"],
    down: ["▼", "oxide"],
    "in service": ["✓", "moss"],
    unreadable: ["✕", "oxide"],
    locked: ["⊘", "ochre"],
    busy: ["◌", "blueprint"],
    planned: ["○", "faded"],
    carded: ["◆", "moss"],
    imprinted: ["✓", "moss"],
    verified: ["✓", "moss"],
    done: ["✓", "moss"],
    released: ["✓", "moss"],
    draft: ["◌", "ochre"],
    withdrawn: ["⊘", "oxide"],
    "up to date": ["✓", "moss"],
    "settings changed": ["◂", "ochre"],
    outdated: ["◂", "ochre"],
    "newer than target": ["▸", "blueprint"],
    "not known": ["?", "faded"],
    suspect: ["!", "oxide"],
    "unknown version": ["?", "ochre"],
    "not booting": ["✕", "oxide"],
    "no card": ["○", "faded"],
    "no release": ["○", "faded"],
    retired: ["–", "faded"],
    lost: ["?", "ochre"],
    serious: ["✕", "oxide"],
    caution: ["!", "ochre"],
    note: ["i", "blueprint"],
    boots: ["✓", "moss"],
    "did not boot": ["✕", "oxide"],
    fits: ["✓", "moss"],
    "does not fit": ["✕", "ochre"],
    new: ["+", "moss"],
    gone: ["–", "ochre"],
    running: ["▸", "blueprint"],
    "at work": ["▸", "blueprint"],
    trial: ["◌", "ochre"],
    paused: ["‖", "ochre"],
    unsure: ["?", "ochre"],
    skipped: ["–", "faded"],
    waiting: ["…", "faded"],
    writing: ["▸", "blueprint"],
    incomplete: ["◧", "ochre"],
    "in doubt": ["?", "ochre"],
    void: ["–", "faded"],
    cancelled: ["–", "ochre"],
    interrupted: ["◧", "ochre"],
    failed: ["✕", "oxide"],
    expected: ["…", "faded"],
    found: ["◌", "blueprint"],
    answers: ["▸", "blueprint"],
    ready: ["!", "ochre"],
    accepted: ["✓", "moss"],
    connected: ["✓", "moss"],
    "answers this page": ["✓", "moss"],
    heard: ["✓", "moss"],
    "not heard": ["!", "ochre"],
    told: ["✓", "moss"],
    "given up": ["✕", "oxide"],
    away: ["–", "ochre"],
    refused: ["✕", "oxide"],
};

export function State({ name }: { name: string }) {
    const [icon, tone] = STATES[name] ?? ["·", "ink"];
    return (
        <span className={`inline-flex items-center gap-1.5 whitespace-nowrap ${TEXT[tone]}`}>
            <span aria-hidden className="w-3 text-center">
                {icon}
            </span>
            {name}
        </span>
    );
}

const BUTTON =
    "min-h-9 rounded-sm border px-3 py-1.5 text-sm font-semibold cursor-pointer disabled:cursor-not-allowed disabled:opacity-50";
const LOOKS = {
    plain: "border-line bg-sheet hover:border-blueprint hover:text-blueprint",
    main: "border-blueprint bg-blueprint text-onblue hover:opacity-90",
    danger: "border-oxide bg-oxide text-sheet hover:opacity-90",
};

export function Button({
    look = "plain",
    ...rest
}: ButtonHTMLAttributes<HTMLButtonElement> & { look?: keyof typeof LOOKS }) {
    return <button type="button" {...rest} className={`${BUTTON} ${LOOKS[look]} ${rest.className ?? ""}`} />;
}

export function Page({ title, aside, children }: { title: string; aside?: ReactNode; children: ReactNode }) {
    useEffect(() => {
        document.title = title === "" ? "Duplicarium" : `${title} · Duplicarium`;
    }, [title]);
    return (
        <main className="mx-auto w-full max-w-6xl px-3 py-5 sm:px-6">
            <header className="mb-4 flex flex-wrap items-baseline justify-between gap-x-4 gap-y-2">
                <h1 className="min-w-0 text-xl font-semibold break-words">{title}</h1>
                <div className="flex flex-wrap items-center gap-3">{aside}</div>
            </header>
            {children}
        </main>
    );
}

export function Sheet({ title, children }: { title?: string; children: ReactNode }) {
    return (
        <section className="mb-5 rounded-sm border border-line bg-sheet p-4">
            {title !== undefined && <h2 className="mb-2 text-sm font-semibold text-faded">{title}</h2>}
            {children}
        </section>
    );
}

export const TABLE =
    "w-full border-collapse text-sm [&_td]:border-t [&_td]:border-line [&_td]:px-3 [&_td]:py-2 [&_td:first-child]:whitespace-nowrap [&_th]:px-3 [&_th]:py-2";

/** A long table scrolls by itself, its head stays. */
export const TALL = "overflow-auto rounded-sm sm:max-h-[max(16rem,calc(100vh-18.5rem))] border border-line bg-sheet";

export function Table({ head, children }: { head: string[]; children: ReactNode }) {
    return (
        <div className="overflow-x-auto rounded-sm border border-line bg-sheet">
            <table className={TABLE}>
                <thead>
                    <tr className="text-left text-faded">
                        {head.map((name) => (
                            <th key={name} scope="col" className={name.startsWith("#") ? "text-right" : ""}>
                                {name.replace("#", "")}
                            </th>
                        ))}
                    </tr>
                </thead>
                <tbody>{children}</tbody>
            </table>
        </div>
    );
}

/** One line of text to fill in. */
export const FIELD = "min-h-9 rounded-sm border border-line bg-paper px-2 py-1.5";

export const Amount = ({ children }: { children: ReactNode }) => <td className="text-right">{children}</td>;

/** A label as it stands on the sticker. */
export const Label = ({ children }: { children: ReactNode }) => (
    <span className="font-mono font-semibold whitespace-nowrap">{children}</span>
);

export function Facts({ rows }: { rows: [string, ReactNode][] }) {
    return (
        <dl className="grid grid-cols-[max-content_minmax(0,1fr)] gap-x-4 gap-y-1 text-sm sm:gap-x-6">
            {rows.map(([name, value]) => (
                <div key={name} className="contents">
                    <dt className="text-faded">{name}</dt>
                    <dd className="min-w-0 [overflow-wrap:anywhere]">{value}</dd>
                </div>
            ))}
        </dl>
    );
}

export function Notice({ tone, children }: { tone: "oxide" | "ochre" | "moss"; children: ReactNode }) {
    const icon = { oxide: "✕", ochre: "!", moss: "✓" }[tone];
    const border = { oxide: "border-oxide", ochre: "border-ochre", moss: "border-moss" }[tone];
    return (
        <div role={tone === "oxide" ? "alert" : "status"} className={`flex gap-2 border-l-4 ${border} bg-paper px-3 py-2 text-sm`}>
            <span aria-hidden className={`font-semibold ${TEXT[tone]}`}>
                {icon}
            </span>
            <div className="min-w-0 [overflow-wrap:anywhere]">{children}</div>
        </div>
    );
}

export const Failure = ({ error }: { error: Error | null }) =>
    error === null ? null : <Notice tone="oxide"><span className="whitespace-pre-line">{error.message}</span></Notice>;

export const Empty = ({ children }: { children: ReactNode }) => (
    <div className="rounded-sm border border-dashed border-line p-6 text-sm text-faded">{children}</div>
);

export function Bar({ done, total }: { done: number; total: number }) {
    const part = total > 0 ? Math.min(1, done / total) : 0;
    return (
        <div
            role="progressbar"
            aria-valuemin={0}
            aria-valuemax={100}
            aria-valuenow={Math.round(part * 100)}
            className="h-2.5 w-full overflow-hidden rounded-sm border border-line bg-paper"
        >
            <div className="h-full bg-blueprint" style={{ width: `${String(part * 100)}%` }} />
        </div>
    );
}
