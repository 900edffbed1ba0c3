import { Area, AreaChart, CartesianGrid, ResponsiveContainer, Tooltip, XAxis, YAxis } from "recharts";

export type Point = { at: number; value: number | null };

/** A line over time. What it says is in words below it, for those who do not see it. */
export default function Chart({ title, unit, points, says }: { title: string; unit: string; points: Point[]; says: string }) {
  const clock = (at: number) => new Date(at).toLocaleTimeString([], { hour: "2-digit", minute: "2-digit", hour12: false });
  return (
    <figure className="min-w-0">
      <figcaption className="flex items-baseline justify-between gap-4 pb-2">
        <span className="text-small font-medium">{title}</span>
        <span className="text-small text-faded">{says}</span>
      </figcaption>
      <div className="h-40" aria-hidden>
        <ResponsiveContainer width="100%" height="100%">
          <AreaChart data={points} margin={{ top: 8, right: 22, bottom: 0, left: 0 }} accessibilityLayer={false}>
            <CartesianGrid vertical={false} stroke="var(--rule)" />
            <XAxis dataKey="at" type="number" domain={["dataMin", "dataMax"]} tickFormatter={clock} minTickGap={60} tickLine={false} axisLine={{ stroke: "var(--rule-strong)" }} tick={{ fill: "var(--faded)", fontSize: 12, fontFamily: "var(--font-mono)" }} />
            <YAxis width={44} tickLine={false} axisLine={false} allowDecimals={false} tick={{ fill: "var(--faded)", fontSize: 12, fontFamily: "var(--font-mono)" }} />
            <Tooltip
              cursor={{ stroke: "var(--rule-strong)" }}
              labelFormatter={(at) => clock(Number(at))}
              formatter={(v) => [`${Number(Number(v).toPrecision(3))} ${unit}`, title]}
              contentStyle={{ background: "var(--leaf)", border: "1px solid var(--rule-strong)", borderRadius: 3, fontSize: 13, color: "var(--ink)" }}
              itemStyle={{ color: "var(--ink)" }}
            />
            <Area dataKey="value" stroke="var(--vermilion)" strokeWidth={1.5} fill="var(--vermilion-wash)" fillOpacity={0.6} isAnimationActive={false} connectNulls={false} dot={points.some((p) => p.value === null) && { r: 1.5, fill: "var(--vermilion)", stroke: "none" }} />
          </AreaChart>
        </ResponsiveContainer>
      </div>
    </figure>
  );
}
