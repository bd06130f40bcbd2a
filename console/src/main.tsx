import "./styles.css";

import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { RouterProvider, createRootRoute, createRoute, createRouter } from "@tanstack/react-router";
import { StrictMode } from "react";
import { createRoot } from "react-dom/client";

import { Activity } from "./pages/Activity";
import { Arrival, Arrivals } from "./pages/Arrivals";
import { Backup, Backups } from "./pages/Backups";
import { Bench } from "./pages/Bench";
import { Card, Cards } from "./pages/Cards";
import { Catalogue } from "./pages/Catalogue";
import { Compare } from "./pages/Compare";
import { Device, Devices } from "./pages/Devices";
import { Preset, Presets } from "./pages/Presets";
import { History } from "./pages/History";
import { Job } from "./pages/Job";
import { Large } from "./pages/Large";
import { Release } from "./pages/Release";
import { Team } from "./pages/Team";
import { Vault } from "./pages/Vault";
import { Round, Rounds } from "./pages/Rounds";
import { Shell } from "./parts/Shell";
import { Empty, Page } from "./parts/ui";

const queries = new QueryClient({ defaultOptions: { queries: { retry: 1, staleTime: 5000 } } });

const root = createRootRoute({
    component: Shell,
    notFoundComponent: () => (
        <Page title="No such page">
            <Empty>There is nothing at this address. Choose a page above.</Empty>
        </Page>
    ),
});
const route = <Path extends string>(path: Path, component: () => React.ReactNode) =>
    createRoute({ getParentRoute: () => root, path, component });
const router = createRouter({
    routeTree: root.addChildren([
        route("/", Bench),
        route("/devices", Devices),
        route("/devices/$name", Device),
        route("/presets", Presets),
        route("/presets/$name", Preset),
        route("/catalogue", Catalogue),
        route("/catalogue/$name", Release),
        route("/compare/$a/$b", Compare),
        route("/cards", Cards),
        route("/cards/$label", Card),
        route("/backups", Backups),
        route("/backups/$name", Backup),
        route("/vault", Vault),
        route("/activity", Activity),
        route("/jobs/$id", Job),
        route("/rounds", Rounds),
        route("/rounds/$id", Round),
        route("/arrivals", Arrivals),
        route("/arrivals/$id", Arrival),
        route("/large", Large),
        route("/team", Team),
        route("/history", History),
    ]),
});

declare module "@tanstack/react-router" {
    interface Register {
        router: typeof router;
    }
}

const place = document.getElementById("root");
if (place === null) throw new Error("the page has no place for the console");
createRoot(place).render(
    <StrictMode>
        <QueryClientProvider client={queries}>
            <RouterProvider router={router} />
        </QueryClientProvider>
    </StrictMode>,
);
