// What somebody sees who is not signed in: name and password, or a one-time code.
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";

import { type Me, Refusal, type SignedIn, post } from "../api/client";
import { filled } from "../parts/form";
import { Button, FIELD, Failure, Notice, Page, Sheet } from "../parts/ui";

/** After signing in or out nothing that was read before counts. */
export function useSignedIn() {
    const queries = useQueryClient();
    return (me: Me | undefined) => {
        queries.removeQueries({ type: "inactive" });
        if (me !== undefined) queries.setQueryData(["me"], me);
        // Pages that are open look again; who asks is known first, where it is.
        void queries.invalidateQueries({ predicate: ({ queryKey }) => me === undefined || queryKey[0] !== "me" });
    };
}

export function SignIn() {
    const [coded, setCoded] = useState(false);
    return (
        <Page title="Sign in">
            <div className="max-w-md">
                {coded ? <ByCode /> : <ByPassword />}
                <button
                    type="button"
                    className="cursor-pointer text-sm text-blueprint underline"
                    onClick={() => {
                        setCoded(!coded);
                    }}
                >
                    {coded ? "I have a password" : "I have a one-time code"}
                </button>
            </div>
        </Page>
    );
}

/** Whether a refusal asks for the code of a second factor. */
function wantsFactor(error: Error | null): boolean {
    return error instanceof Refusal && error.problem.code === "code-wanted";
}

export function ByPassword() {
    const signedIn = useSignedIn();
    const [wantsCode, setWantsCode] = useState(false);
    const enter = useMutation({
        mutationFn: (given: { name: string; password: string; code: string }) => post("sign-in", given),
        onSuccess: (answer: SignedIn) => {
            signedIn(answer.me);
        },
        onError: (error: Error) => {
            if (wantsFactor(error)) setWantsCode(true);
        },
    });
    return (
        <Sheet>
            <form
                className="grid gap-3 text-sm"
                onSubmit={(event: FormEvent<HTMLFormElement>) => {
                    event.preventDefault();
                    enter.mutate(filled(event.currentTarget, ["name", "password", "code"]));
                }}
            >
                <label className="grid gap-1">
                    Name
                    <input name="name" required autoComplete="username" className={FIELD} />
                </label>
                <label className="grid gap-1">
                    Password
                    <input name="password" type="password" required autoComplete="current-password" className={FIELD} />
                </label>
                {wantsCode && (
                    <label className="grid gap-1">
                        Code of the second factor, or a recovery code
                        <input name="code" autoComplete="one-time-code" autoFocus className={`${FIELD} font-mono`} />
                    </label>
                )}
                <Button type="submit" look="main" disabled={enter.isPending}>
                    Sign in
                </Button>
                <Failure error={enter.error} />
            </form>
        </Sheet>
    );
}

/** For the first owner, for somebody new, and for who forgot the password. */
export function ByCode() {
    const signedIn = useSignedIn();
    const [factor, setFactor] = useState(false);
    const enter = useMutation({
        mutationFn: (given: { name: string; code: string; password: string; factor: string }) => post("welcome", given),
        onSuccess: (answer: SignedIn) => {
            signedIn(answer.me);
        },
        onError: (error: Error) => {
            if (wantsFactor(error)) setFactor(true);
        },
    });
    return (
        <Sheet>
            <form
                className="grid gap-3 text-sm"
                onSubmit={(event: FormEvent<HTMLFormElement>) => {
                    event.preventDefault();
                    enter.mutate(filled(event.currentTarget, ["name", "code", "password", "factor"]));
                }}
            >
                <label className="grid gap-1">
                    One-time code
                    <input name="code" required autoComplete="off" className={`${FIELD} font-mono uppercase`} />
                </label>
                <label className="grid gap-1">
                    Name
                    <input name="name" required autoComplete="username" className={FIELD} />
                </label>
                <label className="grid gap-1">
                    Choose a password, of 10 characters or more
                    <input name="password" type="password" required minLength={10} autoComplete="new-password" className={FIELD} />
                </label>
                {factor && (
                    <label className="grid gap-1">
                        Code of the second factor, or a recovery code
                        <input name="factor" autoComplete="one-time-code" autoFocus className={`${FIELD} font-mono`} />
                    </label>
                )}
                <Button type="submit" look="main" disabled={enter.isPending}>
                    Take it
                </Button>
                <Failure error={enter.error} />
                <p className="text-faded">
                    An owner makes such a code on the page of the team. Who runs the service gets one for an owner there:{" "}
                    <code>duplicariumd --first-owner</code>
                </p>
            </form>
        </Sheet>
    );
}

/** At a station: who acts for the next minutes. */
export function Acting({ me }: { me: Me }) {
    const signedIn = useSignedIn();
    const [factor, setFactor] = useState(false);
    const act = useMutation({
        mutationFn: (given: { name: string; pin: string; code: string }) => post("acting", given),
        onSuccess: () => {
            signedIn(undefined);
        },
        onError: (error: Error) => {
            if (wantsFactor(error)) setFactor(true);
        },
    });
    return (
        <form
            className="flex flex-wrap items-center gap-2 text-sm"
            onSubmit={(event: FormEvent<HTMLFormElement>) => {
                event.preventDefault();
                act.mutate(filled(event.currentTarget, ["name", "pin", "code"]));
            }}
        >
            <span className="text-faded">{me.station}: who acts?</span>
            <input name="name" required placeholder="name" aria-label="Name" autoComplete="off" className={`${FIELD} w-28`} />
            <input
                name="pin"
                type="password"
                required
                placeholder="PIN"
                aria-label="PIN"
                inputMode="numeric"
                autoComplete="off"
                className={`${FIELD} w-20`}
            />
            {factor && (
                <input
                    name="code"
                    placeholder="code"
                    aria-label="Code of the second factor"
                    autoComplete="one-time-code"
                    className={`${FIELD} w-32 font-mono`}
                />
            )}
            <Button type="submit" disabled={act.isPending}>
                Act
            </Button>
            {act.error !== null && <Notice tone="oxide">{act.error.message}</Notice>}
        </form>
    );
}
