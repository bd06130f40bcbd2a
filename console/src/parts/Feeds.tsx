// Publishers that are followed, and what is new from them.
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import { useState } from "react";

import { type Feed, get, post, put, remove, requestKey } from "../api/client";
import { JobView } from "./JobView";
import { filled } from "./form";
import { Size, When } from "./text";
import { Amount, Button, FIELD, Failure, Notice, Sheet, State, Table } from "./ui";

export function Feeds() {
    const queries = useQueryClient();
    const feeds = useQuery({ queryKey: ["feeds"], queryFn: () => get("feeds") });
    const follow = useMutation({
        mutationFn: ({ name, url }: { name: string; url: string }) => put(`feeds/${encodeURIComponent(name)}`, { url }),
        onSettled: () => queries.invalidateQueries({ queryKey: ["feeds"] }),
    });
    return (
        <Sheet title="Publishers">
            <Failure error={feeds.error} />
            {feeds.data?.length === 0 && (
                <p className="mb-2 text-sm text-faded">
                    No publisher is followed. A publisher that serves a feed is looked at here, and one press adds a release of it.
                </p>
            )}
            {(feeds.data ?? []).map((feed) => (
                <FeedView key={feed.name} feed={feed} />
            ))}
            <form
                className="mt-3 flex flex-wrap items-end gap-3 text-sm"
                onSubmit={(event) => {
                    event.preventDefault();
                    follow.mutate(filled(event.currentTarget, ["name", "url"]));
                }}
            >
                <label className="grid gap-1">
                    Short name
                    <input name="name" required className={FIELD} />
                </label>
                <label className="grid grow gap-1">
                    Address of the feed
                    <input name="url" type="url" required placeholder="https://" className={FIELD} />
                </label>
                <Button type="submit" disabled={follow.isPending}>
                    Follow
                </Button>
            </form>
            <Failure error={follow.error} />
        </Sheet>
    );
}

function FeedView({ feed }: { feed: Feed }) {
    const queries = useQueryClient();
    const again = () => queries.invalidateQueries({ queryKey: ["feeds"] });
    const path = `feeds/${encodeURIComponent(feed.name)}` as const;
    const look = useMutation({ mutationFn: () => post(`${path}/look`, null), onSettled: again });
    const giveUp = useMutation({ mutationFn: () => remove(path), onSettled: again });
    const [job, setJob] = useState<number>();
    const fetchItem = useMutation({
        mutationFn: (item: string) => post("releases", { feed: feed.name, feed_item: item }, requestKey()),
        onSuccess: (started) => {
            setJob(started.id);
        },
    });
    return (
        <div className="mb-4 grid gap-2">
            <div className="flex items-center gap-3 text-sm">
                <span className="font-semibold">{feed.name}</span>
                <span className="font-mono text-xs break-all text-faded">{feed.url}</span>
                <span className="ml-auto text-faded">
                    looked at <When at={feed.looked_at} />
                </span>
                <Button
                    disabled={look.isPending}
                    onClick={() => {
                        look.mutate();
                    }}
                >
                    Look again
                </Button>
                <Button
                    disabled={giveUp.isPending}
                    onClick={() => {
                        giveUp.mutate();
                    }}
                >
                    Give up
                </Button>
            </div>
            {feed.trouble != null && <Notice tone="ochre">{feed.trouble}</Notice>}
            <Table head={["release", "date", "#size", "notes", "in the catalogue"]}>
                {feed.items.map((item) => (
                    <tr key={item.item}>
                        <td className="whitespace-nowrap">
                            {item.appliance} {item.variant} {item.version} {item.new && <State name="new" />}
                        </td>
                        <td>{item.date ?? "-"}</td>
                        <Amount>{item.size == null ? "-" : <Size bytes={item.size} />}</Amount>
                        <td>{item.notes}</td>
                        <td className="text-right whitespace-nowrap">
                            {item.release == null ? (
                                <Button
                                    disabled={fetchItem.isPending}
                                    onClick={() => {
                                        fetchItem.mutate(item.item);
                                    }}
                                >
                                    Fetch and add
                                </Button>
                            ) : (
                                <Link to="/catalogue/$name" params={{ name: item.release }} className="text-blueprint underline">
                                    in the catalogue
                                </Link>
                            )}
                        </td>
                    </tr>
                ))}
            </Table>
            <Failure error={fetchItem.error ?? giveUp.error} />
            {job !== undefined && <JobView id={job} />}
        </div>
    );
}
