// Adding a release: a file dropped here or chosen, an address, a file of the service's folder.
import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";

import { type NewRelease, type Upload, get, patch, post, requestKey } from "../api/client";
import { JobView } from "./JobView";
import { size } from "./text";
import { Bar, Button, FIELD, Failure, Sheet } from "./ui";

/** Bytes sent at once; the service takes no larger part. */
const PART = 8 << 20;
/** Tries in a row that bring nothing before sending is given up. */
const TRIES = 6;

/** What tells a file apart, so that a new try goes on where the last one was cut off. */
const keyOf = (file: File) => `${file.name}:${String(file.size)}:${String(file.lastModified)}`;

/** Sends a file in parts; after a cut it goes on from where the service says it is. */
async function send(file: File, sheet: string | undefined, see: (sent: number) => void): Promise<Upload> {
    let upload = await post("uploads", { file_name: file.name, size: file.size, sheet, key: keyOf(file) });
    let tries = 0;
    while (upload.received < upload.size) {
        const at = upload.received;
        try {
            upload = await patch(`uploads/${upload.id}?offset=${String(at)}`, file.slice(at, at + PART));
            tries = 0;
        } catch (cause) {
            tries += 1;
            if (tries >= TRIES) throw cause;
            await new Promise((resolve) => setTimeout(resolve, 250 * 2 ** tries));
            upload = await get(`uploads/${upload.id}`).catch(() => upload);
        }
        see(upload.received);
    }
    return upload;
}

const FILE = "file:mr-3 file:cursor-pointer file:rounded-sm file:border file:border-line file:bg-paper file:px-3 file:py-1.5 file:font-semibold";

const isSheet = (file: File) => file.name.toLowerCase().endsWith(".toml");
const isSums = (file: File) => /sums?(\.txt)?$|\.sha256$/i.test(file.name);

interface Given {
    image: File | undefined;
    sheet: File | undefined;
    url: string;
    user: string;
    password: string;
    member: string;
    folder: string;
    sha256: string;
    appliance: string;
    version: string;
    draft: boolean;
    keep: boolean;
}

const NOTHING: Given = { image: undefined, sheet: undefined, url: "", user: "", password: "", member: "", folder: "", sha256: "", appliance: "", version: "", draft: false, keep: false };

export function AddRelease() {
    const [given, setGiven] = useState(NOTHING);
    const [over, setOver] = useState(false);
    const [sent, setSent] = useState(0);
    const folder = useQuery({ queryKey: ["folder"], queryFn: () => get("folder") });
    const change = (some: Partial<Given>) => {
        setGiven((before) => ({ ...before, ...some }));
    };
    const take = async (files: FileList | null) => {
        for (const file of files ?? []) {
            if (isSheet(file)) change({ sheet: file });
            else if (isSums(file) && file.size < 1 << 20) change({ sha256: await file.text() });
            else change({ image: file });
        }
    };
    const add = useMutation({
        mutationFn: async () => {
            const sheet = await given.sheet?.text();
            const order: Partial<NewRelease> = {
                sheet,
                sha256: given.sha256.trim() === "" ? undefined : given.sha256,
                draft: given.draft,
                keep_file: given.keep,
                appliance: given.appliance.trim() === "" ? undefined : given.appliance.trim(),
                version: given.version.trim() === "" ? undefined : given.version.trim(),
                member: given.member.trim() === "" ? undefined : given.member.trim(),
            };
            if (given.image !== undefined) order.upload = (await send(given.image, sheet, setSent)).id;
            else if (given.folder !== "") order.folder_file = given.folder;
            else {
                order.url = given.url;
                if (given.user !== "") {
                    order.url_user = given.user;
                    order.url_password = given.password;
                }
            }
            return post("releases", order, requestKey());
        },
    });
    const ready = given.image !== undefined || given.url !== "" || given.folder !== "";
    return (
        <Sheet title="Add a release">
            <form
                className="grid gap-3 text-sm"
                onSubmit={(event) => {
                    event.preventDefault();
                    add.mutate();
                }}
            >
                <div
                    data-drop
                    onDragOver={(event) => {
                        event.preventDefault();
                        setOver(true);
                    }}
                    onDragLeave={() => {
                        setOver(false);
                    }}
                    onDrop={(event) => {
                        event.preventDefault();
                        setOver(false);
                        void take(event.dataTransfer.files);
                    }}
                    className={`grid gap-2 rounded-sm border-2 border-dashed p-4 ${over ? "border-blueprint bg-paper" : "border-line"}`}
                >
                    <p>
                        Drop the image here, with its release sheet and checksum file if there are any. It may be packed (gz, xz, bz2,
                        zst, zip); its content decides, not its ending.
                    </p>
                    <div className="flex flex-wrap gap-6">
                        <label className="grid gap-1">
                            Image
                            <input
                                name="image"
                                type="file"
                                className={FILE}
                                onChange={(event) => {
                                    change({ image: event.target.files?.[0] });
                                }}
                            />
                        </label>
                        <label className="grid gap-1">
                            Release sheet (TOML)
                            <input
                                name="sheet"
                                type="file"
                                className={FILE}
                                onChange={(event) => {
                                    change({ sheet: event.target.files?.[0] });
                                }}
                            />
                        </label>
                    </div>
                    <p className="min-h-5 text-faded">
                        {given.image !== undefined && `${given.image.name}, ${size(given.image.size)}`}
                        {given.sheet !== undefined && `, with ${given.sheet.name}`}
                        {given.image !== undefined &&
                            given.sheet === undefined &&
                            "; without a sheet it becomes a draft with what is found in it"}
                    </p>
                </div>
                <div className="flex flex-wrap items-start gap-4">
                    <label className="grid grow gap-1">
                        or an address
                        <input
                            name="url"
                            type="url"
                            placeholder="https://"
                            value={given.url}
                            onChange={(event) => {
                                change({ url: event.target.value });
                            }}
                            className={FIELD}
                        />
                    </label>
                    {folder.data?.path != null && (
                        <label className="grid gap-1">
                            or a file of the service&apos;s import folder
                            <select
                                name="folder"
                                value={given.folder}
                                onChange={(event) => {
                                    change({ folder: event.target.value });
                                }}
                                className={FIELD}
                            >
                                <option value="">none</option>
                                {folder.data.files.map((file) => (
                                    <option key={file.name} value={file.name}>
                                        {file.name}, {size(file.size)}
                                        {file.sheet ? ", with its sheet" : ""}
                                    </option>
                                ))}
                            </select>
                        </label>
                    )}
                </div>
                <div className="flex flex-wrap gap-4">
                    {given.url !== "" && (
                        <>
                            <label className="grid gap-1">
                                User, if the publisher wants one
                                <input
                                    name="user"
                                    autoComplete="off"
                                    value={given.user}
                                    onChange={(event) => {
                                        change({ user: event.target.value });
                                    }}
                                    className={FIELD}
                                />
                            </label>
                            <label className="grid gap-1">
                                Password, used once and not kept
                                <input
                                    name="password"
                                    type="password"
                                    autoComplete="off"
                                    value={given.password}
                                    onChange={(event) => {
                                        change({ password: event.target.value });
                                    }}
                                    className={FIELD}
                                />
                            </label>
                        </>
                    )}
                    <label className="grid gap-1">
                        Which file of an archive, where it holds several images
                        <input
                            name="member"
                            value={given.member}
                            onChange={(event) => {
                                change({ member: event.target.value });
                            }}
                            className={FIELD}
                        />
                    </label>
                </div>
                {ready && given.sheet === undefined && (
                    <div className="flex flex-wrap items-end gap-4">
                        <label className="grid gap-1">
                            Appliance
                            <input
                                name="appliance"
                                autoComplete="off"
                                value={given.appliance}
                                onChange={(event) => {
                                    change({ appliance: event.target.value });
                                }}
                                className={FIELD}
                            />
                        </label>
                        <label className="grid gap-1">
                            Version
                            <input
                                name="version"
                                autoComplete="off"
                                value={given.version}
                                onChange={(event) => {
                                    change({ version: event.target.value });
                                }}
                                className={FIELD}
                            />
                        </label>
                        <p className="pb-2 text-faded">Without a sheet; left out, the file name must say both.</p>
                    </div>
                )}
                <label className="grid gap-1">
                    SHA-256 as published, of the file or of the raw image
                    <input
                        name="sha256"
                        value={given.sha256}
                        onChange={(event) => {
                            change({ sha256: event.target.value });
                        }}
                        className={`${FIELD} font-mono text-xs`}
                    />
                </label>
                <div className="flex items-center gap-6">
                    <label className="flex items-center gap-1.5">
                        <input
                            type="checkbox"
                            checked={given.draft}
                            onChange={(event) => {
                                change({ draft: event.target.checked });
                            }}
                        />
                        a draft, to be tried first
                    </label>
                    <label className="flex items-center gap-1.5">
                        <input
                            type="checkbox"
                            checked={given.keep}
                            onChange={(event) => {
                                change({ keep: event.target.checked });
                            }}
                        />
                        keep the packed file too
                    </label>
                    <Button type="submit" look="main" disabled={!ready || add.isPending} className="ml-auto">
                        Add
                    </Button>
                </div>
            </form>
            <div className="mt-3 grid min-h-16 gap-2">
                {add.isPending && given.image !== undefined && (
                    <div className="grid gap-1 text-sm">
                        <span>
                            Uploading {size(sent)} of {size(given.image.size)}
                        </span>
                        <Bar done={sent} total={given.image.size} />
                    </div>
                )}
                <Failure error={add.error} />
                {add.data !== undefined && <JobView id={add.data.id} />}
            </div>
        </Sheet>
    );
}
