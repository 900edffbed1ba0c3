import { createHashRouter, Navigate } from "react-router";
import { Frame } from "./frame";
import { KeysScreen } from "./screens/keys";
import { MachinesScreen } from "./screens/machines";
import { ModelsScreen } from "./screens/models";
import { NowScreen } from "./screens/now";
import { PromptScreen } from "./screens/prompt";
import { ReplayScreen } from "./screens/replay";
import { SetupScreen } from "./screens/setup";
import { SuitesScreen } from "./screens/suites";
import { CostsView, JobsView, RefusedView } from "./screens/traffic-views";
import { ExchangesView, TrafficScreen } from "./screens/traffic";
import { TryScreen } from "./screens/try";

/** The screens, in the order of the navigation. Their paths stand behind the #, so that they work below any prefix. */
export const screens = [
  { path: "now", title: "Now" },
  { path: "models", title: "Models" },
  { path: "machines", title: "Machines" },
  { path: "try", title: "Try it" },
  { path: "prompt", title: "Prompt" },
  { path: "keys", title: "Keys" },
  { path: "traffic", title: "Traffic" },
  { path: "suites", title: "Suites" },
  { path: "setup", title: "Setup" },
] as const;

export const router = createHashRouter([
  {
    path: "/",
    element: <Frame />,
    children: [
      { index: true, element: <Navigate to="/now" replace /> },
      { path: "now", element: <NowScreen /> },
      { path: "models", element: <ModelsScreen /> },
      { path: "machines", element: <MachinesScreen /> },
      { path: "try", element: <TryScreen /> },
      { path: "prompt", element: <PromptScreen /> },
      { path: "keys", element: <KeysScreen /> },
      {
        path: "traffic",
        element: <TrafficScreen />,
        children: [
          { index: true, element: <ExchangesView /> },
          { path: "exchange/:id", element: <ExchangesView /> },
          { path: "jobs", element: <JobsView /> },
          { path: "refused", element: <RefusedView /> },
          { path: "costs", element: <CostsView /> },
        ],
      },
      { path: "traffic/exchange/:id/replay", element: <ReplayScreen /> },
      { path: "suites", element: <SuitesScreen /> },
      { path: "suites/:id", element: <SuitesScreen /> },
      { path: "setup", element: <SetupScreen /> },
      { path: "*", element: <Navigate to="/now" replace /> },
    ],
  },
]);
