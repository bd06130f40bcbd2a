// Calls to the service. The types are made from its OpenAPI document.
import type { components } from "./schema";

type Schemas = components["schemas"];
export type Backup = Schemas["Backup"];
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
export type FactValue = Schemas["FactValue"];
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

/** A refusal of the service: what happened and what to do. */
export class Refusal extends Error {
    constructor(readonly problem: Problem) {
        super(problem.detail);
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
    if (!response.ok) throw new Refusal(answer as Problem);
    return answer as T;
}

export const get = <T>(path: string) => call<T>("GET", path);
export const post = <T>(path: string, body: unknown, key?: string) => call<T>("POST", path, body, key);
export const patch = <T>(path: string, body: unknown) => call<T>("PATCH", path, body);

export const put = <T>(path: string, body: unknown) => call<T>("PUT", path, body);
export const remove = <T>(path: string) => call<T>("DELETE", path);

/** The path of a release, or of something below it. */
export const ofRelease = (name: string, below = "") => `releases/${encodeURIComponent(name)}${below}`;

/** A key for work that must not start twice. */
export const requestKey = () => crypto.randomUUID();
