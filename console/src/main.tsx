import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { StrictMode } from "react";
import { createRoot } from "react-dom/client";
import { createBrowserRouter, RouterProvider } from "react-router";
import { BrokenPage } from "./pages/Broken";
import { KeysPage } from "./pages/Keys";
import { LanePage } from "./pages/Lane";
import { LanesPage } from "./pages/Lanes";
import { PlanPage } from "./pages/Plan";
import { PreviewPage } from "./pages/Preview";
import { ReviewPage } from "./pages/Review";
import { RosterPage } from "./pages/Roster";
import { Shell } from "./pages/Shell";
import { SystemPage } from "./pages/System";
import { SystemSettingsPage } from "./pages/SystemSettings";
import { SystemsPage } from "./pages/Systems";
import { TasksPage } from "./pages/Tasks";
import { TrialPage } from "./pages/Trial";
import { WhyPage } from "./pages/Why";
import "./theme.css";

const client = new QueryClient({ defaultOptions: { queries: { retry: 1, staleTime: 1000 } } });
const router = createBrowserRouter([
  {
    path: "/",
    element: <Shell />,
    errorElement: <BrokenPage />,
    children: [
      { index: true, element: <LanesPage /> },
      { path: "lanes/:lane", element: <LanePage /> },
      { path: "lanes/:lane/why", element: <WhyPage /> },
      { path: "lanes/:lane/trial", element: <TrialPage /> },
      { path: "lanes/:lane/review", element: <ReviewPage /> },
      { path: "plans/:plan", element: <PlanPage /> },
      { path: "systems", element: <SystemsPage /> },
      { path: "systems/:system", element: <SystemPage /> },
      { path: "new-system", element: <SystemSettingsPage /> },
      { path: "systems/:system/settings", element: <SystemSettingsPage /> },
      { path: "systems/:system/preview", element: <PreviewPage /> },
      { path: "rosters/:roster", element: <RosterPage /> },
      { path: "keys", element: <KeysPage /> },
      { path: "tasks", element: <TasksPage /> },
      { path: "*", element: <p>There is no page at this address. The lanes are on the first page.</p> },
    ],
  },
]);

const root = document.getElementById("root");
if (root)
  createRoot(root).render(
    <StrictMode>
      <QueryClientProvider client={client}>
        {/* without transitions, what is typed and what is listed never part */}
        <RouterProvider router={router} useTransitions={false} />
      </QueryClientProvider>
    </StrictMode>,
  );
