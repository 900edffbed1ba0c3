import { createHashRouter, Navigate } from "react-router";
import { Frame } from "./frame";

/** The screens, in the order of the navigation. Their paths stand behind the #, so that they work below any prefix. */
export const screens = [
  { path: "now", title: "Now" },
  { path: "models", title: "Models" },
  { path: "machines", title: "Machines" },
  { path: "tools", title: "Tools" },
  { path: "try", title: "Try it" },
  { path: "prompt", title: "Prompt" },
  { path: "keys", title: "Keys" },
  { path: "traffic", title: "Traffic" },
  { path: "suites", title: "Suites" },
  { path: "setup", title: "Setup" },
] as const;

/** A screen that is loaded when it is visited. */
const screen = async <M extends Record<K, React.ComponentType>, K extends string>(module: Promise<M>, name: K) => ({ Component: (await module)[name] as React.ComponentType });

export const router = createHashRouter([
  {
    path: "/",
    element: <Frame />,
    children: [
      { index: true, element: <Navigate to="/now" replace /> },
      { path: "now", lazy: () => screen(import("./screens/now"), "NowScreen") },
      { path: "models", lazy: () => screen(import("./screens/models"), "ModelsScreen") },
      { path: "machines", lazy: () => screen(import("./screens/machines"), "MachinesScreen") },
      { path: "tools", lazy: () => screen(import("./screens/tools"), "ToolsScreen") },
      { path: "try", lazy: () => screen(import("./screens/try"), "TryScreen") },
      { path: "prompt", lazy: () => screen(import("./screens/prompt"), "PromptScreen") },
      { path: "keys", lazy: () => screen(import("./screens/keys"), "KeysScreen") },
      {
        path: "traffic",
        lazy: () => screen(import("./screens/traffic"), "TrafficScreen"),
        children: [
          { index: true, lazy: () => screen(import("./screens/traffic"), "ExchangesView") },
          { path: "exchange/:id", lazy: () => screen(import("./screens/traffic"), "ExchangesView") },
          { path: "jobs", lazy: () => screen(import("./screens/traffic-views"), "JobsView") },
          { path: "refused", lazy: () => screen(import("./screens/traffic-views"), "RefusedView") },
          { path: "costs", lazy: () => screen(import("./screens/traffic-views"), "CostsView") },
        ],
      },
      { path: "traffic/exchange/:id/replay", lazy: () => screen(import("./screens/replay"), "ReplayScreen") },
      { path: "suites", lazy: () => screen(import("./screens/suites"), "SuitesScreen") },
      { path: "suites/:id", lazy: () => screen(import("./screens/suites"), "SuitesScreen") },
      { path: "setup", lazy: () => screen(import("./screens/setup"), "SetupScreen") },
      { path: "*", element: <Navigate to="/now" replace /> },
    ],
  },
]);
