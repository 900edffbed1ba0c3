// What the screens know of the gate, and how they change it. Each question is asked once, whoever wants to know.
import { QueryClient, useMutation, useQueries, useQuery, useQueryClient } from "@tanstack/react-query";
import * as api from "./api";
import { useToast } from "./design/toast";

export const client = new QueryClient({
  defaultOptions: {
    queries: {
      // A browser that calls itself offline reaches a gate on this computer all the same.
      networkMode: "always",
      staleTime: 2000,
      // What the gate refuses it would refuse again; a gate that does not answer is asked again by the intervals.
      retry: false,
      refetchOnWindowFocus: true,
    },
    mutations: { networkMode: "always" },
  },
});

/** How often what changes by itself is asked for, in milliseconds. A tab that is hidden does not ask. */
const often = 5000;

export const useStatus = () => useQuery({ queryKey: ["status"], queryFn: api.status, refetchInterval: often });
export const useModels = () => useQuery({ queryKey: ["models"], queryFn: api.models, refetchInterval: often });
export const usePresets = () => useQuery({ queryKey: ["presets"], queryFn: api.presets, refetchInterval: often });
export const useNames = () => useQuery({ queryKey: ["names"], queryFn: api.names, refetchInterval: often });
export const useMachines = () => useQuery({ queryKey: ["machines"], queryFn: api.machines, refetchInterval: often });
export const useGates = () => useQuery({ queryKey: ["gates"], queryFn: api.gates, refetchInterval: often });
export const useTools = () => useQuery({ queryKey: ["tools"], queryFn: api.tools, refetchInterval: often });
export const useApprovals = () => useQuery({ queryKey: ["approvals"], queryFn: api.approvals, refetchInterval: 2000 });
export const useSteps = (ids: string[]) => useQueries({ queries: ids.map((id) => ({ queryKey: ["exchange", id], queryFn: () => api.exchange(id) })), combine: (all) => all.flatMap((one) => one.data ?? []) });
export const useSuites = () => useQuery({ queryKey: ["suites"], queryFn: api.suites, refetchInterval: often });
export const useKeys = () => useQuery({ queryKey: ["keys"], queryFn: api.keys, refetchInterval: often });
export const useKey = (id?: string) => useQuery({ queryKey: ["keys", id], queryFn: () => api.key(id ?? ""), enabled: id !== undefined, refetchInterval: often });
export const useGroups = () => useQuery({ queryKey: ["groups"], queryFn: api.groups, refetchInterval: often });
export const useSettings = () => useQuery({ queryKey: ["settings"], queryFn: api.settings, refetchInterval: often });
export const useCheck = () => useQuery({ queryKey: ["check"], queryFn: api.check, refetchInterval: 30_000 });
export const useNow = () => useQuery({ queryKey: ["now"], queryFn: api.now, refetchInterval: 2000 });
export const useJobs = () => useQuery({ queryKey: ["jobs"], queryFn: api.jobs, refetchInterval: often });
export const useRefusals = () => useQuery({ queryKey: ["refusals"], queryFn: api.refusals, refetchInterval: often });
export const useCosts = (month: string) => useQuery({ queryKey: ["costs", month], queryFn: () => api.costs(month), refetchInterval: often });
export const useExchange = (id?: string) => useQuery({ queryKey: ["exchange", id], queryFn: () => api.exchange(id ?? ""), enabled: id !== undefined });

/** What an application can name as a model: models here and elsewhere, presets and public names. */
export type Target = { name: string; kind: "model" | "preset" | "name" | "machine"; model?: api.Model; use?: string; rendersHere: boolean };

/** All of these that make text, or all of them; and whether they are known. A preset has the model that it stands on, a name that of its first target. */
export function useTargets(text = true): Target[] {
  const models = useModels().data?.models.filter((m) => !m.problem);
  const presets = usePresets().data;
  const names = useNames().data;
  const machines = useMachines().data;
  const of = (name?: string): api.Model | undefined => models?.find((m) => m.id === name) ?? (presets?.some((p) => p.name === name) ? models?.find((m) => m.id === presets.find((p) => p.name === name)?.model) : undefined);
  const rendersHere = (name?: string) => !!of(name) || machines?.find((m) => name?.startsWith(`${m.name}/`))?.mode === "prompt";
  const list: Target[] = [
    ...(models?.map((m) => ({ name: m.id, kind: "model" as const, model: m, rendersHere: true })) ?? []),
    ...(presets?.map((p) => ({ name: p.name, kind: "preset" as const, model: of(p.name), rendersHere: rendersHere(p.model) })) ?? []),
    ...(names?.filter((n) => n.name !== "*").map((n) => ({ name: n.name, kind: "name" as const, model: of(n.of[0]?.to), rendersHere: rendersHere(n.of[0]?.to) })) ?? []),
    ...(machines?.flatMap((m) => m.models.map((one) => ({ name: `${m.name}/${one.name}`, kind: "machine" as const, use: one.use, rendersHere: m.mode === "prompt" }))) ?? []),
  ];
  // Models of machines that have joined go by their own name too, unless something else has it.
  for (const one of machines?.filter((m) => m.joined).flatMap((m) => m.models) ?? []) {
    if (!list.some((t) => t.name === one.name)) list.push({ name: one.name, kind: "machine", use: one.use, rendersHere: false });
  }
  return text ? list.filter((t) => !["embedding", "rerank"].includes(t.model?.use ?? t.use ?? "")) : list;
}

const kinds = { model: "", preset: "preset", name: "public name", machine: "other machine" };

/** Targets to choose from, with what they are where that is not a model. */
export const targetOptions = (list: Target[]) => list.map((t) => ({ value: t.name, label: kinds[t.kind] ? `${t.name} (${kinds[t.kind]})` : t.name }));

/** Something that is done to the gate. When it is done, what it may have changed is asked for anew, and a line says so. */
export function useAct<T, R>(act: (with_: T) => Promise<R>, options: { changes: string[]; says?: (done: R, with_: T) => string }) {
  const known = useQueryClient();
  const toast = useToast();
  return useMutation({
    mutationFn: act,
    onSettled: () => Promise.all(options.changes.map((what) => known.invalidateQueries({ queryKey: [what] }))),
    onSuccess: (done, with_) => {
      const line = options.says?.(done, with_);
      if (line) toast(line);
    },
  });
}
