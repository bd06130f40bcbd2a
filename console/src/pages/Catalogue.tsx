// The catalogue: releases, one release, adding one from a file and its sheet.
import { useMutation, useQuery } from "@tanstack/react-query";
import { Link, useParams } from "@tanstack/react-router";
import { useState } from "react";

import { type Job, type Release as ReleaseRow, type ReleaseDetail, type Upload, get, patch, post, requestKey } from "../api/client";
import { DiskMap } from "../parts/DiskMap";
import { JobView } from "../parts/JobView";
import { Size, When } from "../parts/text";
import { Amount, Bar, Button, Empty, Facts, Failure, Page, Sheet, State, Table } from "../parts/ui";

/** Bytes sent at once; the service takes no larger part. */
const PART = 8 << 20;

export function Catalogue() {
    const releases = useQuery({ queryKey: ["releases"], queryFn: () => get<ReleaseRow[]>("releases") });
    const [adding, setAdding] = useState(false);
    return (
        <Page
            title="Catalogue"
            aside={
                <Button
                    onClick={() => {
                        setAdding(!adding);
                    }}
                >
                    Add a release
                </Button>
            }
        >
            {adding && <AddRelease />}
            <Failure error={releases.error} />
            {releases.data?.length === 0 && <Empty>No release yet. Add the first one: an image and its release sheet.</Empty>}
            {releases.data !== undefined && releases.data.length > 0 && (
                <Table head={["release", "state", "date", "boards", "#packed", "#raw", "#smallest card", "added"]}>
                    {releases.data.map((release) => (
                        <tr key={release.name}>
                            <td>
                                <Link to="/catalogue/$name" params={{ name: release.name }} className="font-semibold text-blueprint underline">
                                    {release.name}
                                </Link>
                            </td>
                            <td>
                                <State name={release.state} />
                            </td>
                            <td>{release.dated ?? "-"}</td>
                            <td>{release.boards.join(", ")}</td>
                            <Amount>
                                <Size bytes={release.packed_size} /> {release.packing}
                            </Amount>
                            <Amount>
                                <Size bytes={release.raw_size} />
                            </Amount>
                            <Amount>
                                <Size bytes={release.smallest_card} />
                            </Amount>
                            <td>
                                <When at={release.added_at} /> by {release.added_by}
                            </td>
                        </tr>
                    ))}
                </Table>
            )}
        </Page>
    );
}

/** Sends a file in parts; after a cut it goes on from where the service says it is. */
async function send(file: File, sheet: string, see: (sent: number) => void): Promise<Upload> {
    let upload = await post<Upload>("uploads", { file_name: file.name, size: file.size, sheet });
    while (upload.received < upload.size) {
        const at = upload.received;
        const part = file.slice(at, at + PART);
        try {
            upload = await patch<Upload>(`uploads/${upload.id}?offset=${String(at)}`, part);
        } catch {
            upload = await get<Upload>(`uploads/${upload.id}`);
        }
        see(upload.received);
    }
    return upload;
}

function AddRelease() {
    const [image, setImage] = useState<File>();
    const [sheet, setSheet] = useState<File>();
    const [sent, setSent] = useState(0);
    const add = useMutation({
        mutationFn: async (given: { image: File; sheet: File }) => {
            const text = await given.sheet.text();
            const upload = await send(given.image, text, setSent);
            return post<Job>("releases", { upload: upload.id, sheet: text }, requestKey());
        },
    });
    return (
        <Sheet title="Add a release">
            <form
                className="flex flex-wrap items-end gap-4 text-sm"
                onSubmit={(event) => {
                    event.preventDefault();
                    if (image !== undefined && sheet !== undefined) add.mutate({ image, sheet });
                }}
            >
                <label className="grid gap-1">
                    Image: plain, gzip or xz
                    <input name="image" type="file" required onChange={(event) => { setImage(event.target.files?.[0]); }} />
                </label>
                <label className="grid gap-1">
                    Release sheet (TOML)
                    <input name="sheet" type="file" required onChange={(event) => { setSheet(event.target.files?.[0]); }} />
                </label>
                <Button type="submit" look="main" disabled={add.isPending}>
                    Add
                </Button>
            </form>
            <div className="mt-3 grid min-h-16 gap-2">
                {add.isPending && image !== undefined && <Bar done={sent} total={image.size} />}
                <Failure error={add.error} />
                {add.data !== undefined && <JobView id={add.data.id} />}
            </div>
        </Sheet>
    );
}

export function Release() {
    const { name } = useParams({ strict: false });
    const detail = useQuery({
        queryKey: ["releases", name],
        queryFn: () => get<ReleaseDetail>(`releases/${encodeURIComponent(name ?? "")}`),
    });
    const data = detail.data;
    return (
        <Page title={name ?? ""} aside={data !== undefined && <State name={data.release.state} />}>
            <Failure error={detail.error} />
            {data !== undefined && (
                <>
                    <Sheet>
                        <Facts
                            rows={[
                                ["date", data.release.dated ?? "-"],
                                ["boards", data.release.boards.join(", ")],
                                ["from", `${data.release.source} (${data.release.packing})`],
                                ["packed", <Size key="packed" bytes={data.release.packed_size} />],
                                ["packed SHA-256", <code key="p" className="font-mono text-xs">{data.release.packed_sha256}</code>],
                                ["raw", <Size key="raw" bytes={data.release.raw_size} />],
                                ["raw SHA-256", <code key="r" className="font-mono text-xs">{data.release.raw_sha256}</code>],
                                ["smallest card", <Size key="card" bytes={data.release.smallest_card} />],
                                ["new in the vault", <Size key="stored" bytes={data.release.stored} />],
                            ]}
                        />
                    </Sheet>
                    <Sheet title={`Disk, ${data.table} ${data.disk_id}`}>
                        <DiskMap length={data.release.raw_size} partitions={data.partitions} />
                    </Sheet>
                    <Sheet title="Release sheet">
                        <pre className="overflow-x-auto font-mono text-xs">{data.sheet}</pre>
                    </Sheet>
                </>
            )}
        </Page>
    );
}
