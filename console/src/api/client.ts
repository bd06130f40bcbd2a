// Calls to the service. Paths, bodies and answers are checked against its OpenAPI document.
import type { components, paths } from "./schema";

type Schemas = components["schemas"];
export type Arrival = Schemas["Arrival"];
export type ArrivalDetail = Schemas["ArrivalDetail"];
export type Invitation = Schemas["Invitation"];
export type Me = Schemas["Me"];
export type Pass = Schemas["Pass"];
export type Person = Schemas["Person"];
export type Role = Schemas["Role"];
export type SignedIn = Schemas["SignedIn"];
export type Attention = Schemas["Attention"];
export type SeenBoard = Schemas["SeenBoard"];
export type Lamp = Schemas["Lamp"];
export type Step = Schemas["Step"];
export type Watched = Schemas["Watched"];
export type Backup = Schemas["Backup"];
export type KeepReport = Schemas["KeepReport"];
export type VaultLook = Schemas["VaultLook"];
export type VaultSize = Schemas["VaultSize"];
export type BenchCode = Schemas["BenchCode"];
export type FarBench = Schemas["FarBench"];
export type BenchDisk = Schemas["BenchDisk"];
export type BenchView = Schemas["Bench"];
export type BoardModel = Schemas["BoardModel"];
export type CarriedNetwork = Schemas["CarriedNetwork"];
export type Card = Schemas["Card"];
export type Caution = Schemas["Caution"];
export type CardLot = Schemas["CardLot"];
export type CardPlan = Schemas["CardPlan"];
export type CardDetail = Schemas["CardDetail"];
export type Choice = Schemas["Choice"];
export type Comparison = Schemas["Comparison"];
export type Device = Schemas["Device"];
export type DeviceDetail = Schemas["DeviceDetail"];
export type DeviceTableReport = Schemas["DeviceTableReport"];
export type Drift = Schemas["Drift"];
export type ExportChange = Schemas["ExportChange"];
export type FactValue = Schemas["FactValue"];
export type Export = Schemas["Export"];
export type Fault = Schemas["Fault"];
export type Feed = Schemas["Feed"];
export type FileNode = Schemas["FileNode"];
export type Folder = Schemas["Folder"];
export type Gap = Schemas["Gap"];
export type HistoryEvent = Schemas["Event"];
export type Events = Schemas["Events"];
export type Imprint = Schemas["Imprint"];
export type Job = Schemas["Job"];
export type Jobs = Schemas["Jobs"];
export type Names = Schemas["Names"];
export type Line = Schemas["Line"];
export type NewPlan = Schemas["NewPlan"];
export type NewRelease = Schemas["NewRelease"];
export type Outage = Schemas["Outage"];
export type Plan = Schemas["Plan"];
export type PlannedFile = Schemas["PlannedFile"];
export type Preset = Schemas["Preset"];
export type PresetDetail = Schemas["PresetDetail"];
export type Preview = Schemas["Preview"];
export type PreviewFile = Schemas["PreviewFile"];
export type Problem = Schemas["Problem"];
export type Progress = Schemas["Progress"];
export type Release = Schemas["Release"];
export type ReleaseDetail = Schemas["ReleaseDetail"];
export type Partition = Schemas["Partition"];
export type NewRound = Schemas["NewRound"];
export type Round = Schemas["Round"];
export type RoundDetail = Schemas["RoundDetail"];
export type RoundEntry = Schemas["RoundEntry"];
export type RoundSlot = Schemas["RoundSlot"];
export type Rounds = Schemas["Rounds"];
export type Setting = Schemas["Setting"];
export type Standing = Schemas["Standing"];
export type Site = Schemas["Site"];
export type Speed = Schemas["Speed"];
export type SlotBinding = Schemas["SlotBinding"];
export type Slot = Schemas["Slot"];
export type Touched = Schemas["Touched"];
export type Upload = Schemas["Upload"];

/** One page of a long list. */
export interface Page<T> {
    items: T[];
    next?: string | null;
    total: number;
}

const OPERATOR = "duplicarium.operator";

export function operator(): string {
    return localStorage.getItem(OPERATOR) ?? "operator";
}

export function setOperator(name: string) {
    localStorage.setItem(OPERATOR, name.trim() === "" ? "operator" : name.trim());
}

/** Told on the window when the service knows nobody any more. */
export const SIGNED_OUT = "duplicarium-signed-out";

/** A refusal of the service: what happened and what to do. */
export class Refusal extends Error {
    constructor(readonly problem: Problem) {
        super([problem.detail, ...(problem.besides ?? [])].join("\nBesides, "));
    }
}

async function call<T>(method: string, path: string, body?: unknown, key?: string): Promise<T> {
    const headers: Record<string, string> = { "duplicarium-operator": encodeURIComponent(operator()) };
    let content: BodyInit | undefined;
    if (body instanceof Blob) {
        content = body;
    } else if (body !== undefined) {
        headers["content-type"] = "application/json";
        content = JSON.stringify(body);
    }
    if (key !== undefined) headers["idempotency-key"] = key;
    let response: Response;
    try {
        response = await fetch(`/api/v1/${path}`, { method, headers, body: content });
    } catch {
        throw new Error("The service does not answer. Nothing was changed; try again when it runs.");
    }
    if (response.status === 204) return undefined as T;
    const answer: unknown = await response.json();
    if (!response.ok) {
        const refusal = new Refusal(answer as Problem);
        if (refusal.problem.code === "not-signed-in") window.dispatchEvent(new Event(SIGNED_OUT));
        throw refusal;
    }
    return answer as T;
}

type Method = "get" | "post" | "put" | "patch" | "delete";
/** A path of the document as it is written out: `devices/{name}` is `devices/${string}`. */
type Filled<P extends string> = P extends `${infer Before}{${string}}${infer Behind}` ? `${Before}${string}${Filled<Behind>}` : P;
type Short<K> = K extends `/api/v1/${infer Rest}` ? Filled<Rest> : never;
type With<M extends Method> = { [K in keyof paths]: paths[K] extends Record<M, { responses: unknown }> ? K : never }[keyof paths];
type Bare<P extends string> = P extends `${infer Path}?${string}` ? Path : P;
/** What may be called with a method: a path of the document, with or without a question behind it. */
type Call<M extends Method> = Short<With<M>> | `${Short<With<M>>}?${string}`;
type Named<M extends Method, P extends string> = {
    [K in With<M>]: Short<K> extends Bare<P> ? (Bare<P> extends Short<K> ? K : never) : never;
}[With<M>];
type Operation<M extends Method, P extends string> = paths[Named<M, P>] extends Record<M, infer O> ? O : never;
type Json<Content> = Content extends { content: { "application/json": infer Body } } ? Body : undefined;
type Answer<O> = O extends { responses: infer R } ? Json<R[keyof R & (200 | 201 | 202 | 204)]> : never;
type Body<O> = O extends { requestBody: { content: { "application/json": infer B } } }
    ? B
    : O extends { requestBody: unknown }
      ? Blob
      : Record<string, never> | null;

export const get = <const P extends Call<"get">>(path: P) => call<Answer<Operation<"get", P>>>("GET", path);
export const post = <const P extends Call<"post">>(path: P, body: Body<Operation<"post", P>>, key?: string) =>
    call<Answer<Operation<"post", P>>>("POST", path, body, key);
export const patch = <const P extends Call<"patch">>(path: P, body: Body<Operation<"patch", P>>) =>
    call<Answer<Operation<"patch", P>>>("PATCH", path, body);
export const put = <const P extends Call<"put">>(path: P, body: Body<Operation<"put", P>>) =>
    call<Answer<Operation<"put", P>>>("PUT", path, body);
/** A page of a list whose name is not known before it is asked for. */
export const page = <T>(noun: string, query: URLSearchParams) => call<Page<T>>("GET", `${noun}?${query.toString()}`);
export const remove = <const P extends Call<"delete">>(path: P) => call<Answer<Operation<"delete", P>>>("DELETE", path);

/** The path of a release, or of something below it. */
export const ofRelease = <const Below extends string = "">(name: string, below = "" as Below) =>
    `releases/${encodeURIComponent(name)}${below}` as const;

/** A key for work that must not start twice. */
export const requestKey = () => crypto.randomUUID();
