// The picture of a device and its label, taken with a phone.
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";

import { get, put, remove as takeAway } from "../api/client";
import { When } from "./text";
import { Button, Failure } from "./ui";

/** The longer side of a picture that is kept, in pixels: a label can be read, and a phone's picture is made smaller. */
const SIDE = 1600;

/** A picture as it is kept: smaller, upright, and without the place where it was taken. */
async function small(file: File): Promise<Blob> {
    const picture = await createImageBitmap(file).catch(() => null);
    if (picture === null) return file;
    const scale = Math.min(1, SIDE / Math.max(picture.width, picture.height));
    const canvas = document.createElement("canvas");
    canvas.width = Math.max(1, Math.round(picture.width * scale));
    canvas.height = Math.max(1, Math.round(picture.height * scale));
    canvas.getContext("2d")?.drawImage(picture, 0, 0, canvas.width, canvas.height);
    const made = await new Promise<Blob | null>((done) => {
        canvas.toBlob(done, "image/jpeg", 0.85);
    });
    return made ?? file;
}

export function Photo({ device }: { device: string }) {
    const name = encodeURIComponent(device);
    const queries = useQueryClient();
    const key = ["photos", device];
    const about = useQuery({ queryKey: key, queryFn: () => get(`devices/${name}/photo`) });
    const fresh = () => queries.invalidateQueries({ queryKey: key });
    const keep = useMutation({ mutationFn: async (file: File) => put(`devices/${name}/photo`, await small(file)), onSuccess: fresh });
    const remove = useMutation({ mutationFn: () => takeAway(`devices/${name}/photo`), onSuccess: fresh });
    const photo = about.data;
    return (
        <section aria-label="Picture" className="grid gap-2 text-sm">
            {photo != null && (
                <>
                    <img
                        src={`/api/v1/devices/${name}/photo/content?${photo.taken_at}`}
                        alt={`${device} and its label`}
                        className="max-h-72 max-w-full justify-self-start rounded-sm border border-line"
                    />
                    <span className="text-faded">
                        {photo.taken_by}, <When at={photo.taken_at} />
                    </span>
                </>
            )}
            <div className="flex flex-wrap items-center gap-3">
                <label className="grid gap-1">
                    {photo == null ? "A picture of it and its label" : "Another picture"}
                    <input
                        type="file"
                        accept="image/jpeg,image/png,image/webp"
                        capture="environment"
                        disabled={keep.isPending}
                        className="max-w-full"
                        onChange={(event) => {
                            const file = event.target.files?.[0];
                            if (file !== undefined) keep.mutate(file);
                        }}
                    />
                </label>
                {photo != null && (
                    <Button
                        disabled={remove.isPending}
                        onClick={() => {
                            remove.mutate();
                        }}
                    >
                        Take the picture away
                    </Button>
                )}
            </div>
            <Failure error={keep.error ?? remove.error ?? about.error} />
        </section>
    );
}
