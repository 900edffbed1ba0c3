import { useEffect, useRef, useState } from "react";
import uPlot from "uplot";
import "uplot/dist/uPlot.min.css";

export type Point = { at: number; value: number | null };

/** A line over time, in milliseconds since 1970. Beside the title stands what it shows, or the value under the pointer. */
export default function Chart({ title, unit, points, says }: { title: string; unit: string; points: Point[]; says: string }) {
  const place = useRef<HTMLDivElement>(null);
  const plot = useRef<uPlot>(undefined);
  const [pointed, setPointed] = useState("");
  const [drawn, setDrawn] = useState(0); // changes with the colours of the page, which a canvas does not follow by itself
  useEffect(() => {
    const themed = new MutationObserver(() => setDrawn((n) => n + 1));
    themed.observe(document.documentElement, { attributeFilter: ["data-theme"] });
    return () => themed.disconnect();
  }, []);
  useEffect(() => {
    const box = place.current!;
    const p = new uPlot(options(box, unit, setPointed), [[], []], box);
    plot.current = p;
    const resized = new ResizeObserver(() => p.setSize({ width: box.clientWidth, height: box.clientHeight }));
    resized.observe(box);
    return () => {
      resized.disconnect();
      p.destroy();
    };
  }, [unit, drawn]);
  useEffect(() => plot.current?.setData([points.map((p) => p.at), points.map((p) => p.value)]), [points, unit, drawn]);
  return (
    <figure className="min-w-0">
      <figcaption className="flex items-baseline justify-between gap-4 pb-2">
        <span className="text-small font-medium">{title}</span>
        <span className="text-small text-faded">{pointed || says}</span>
      </figcaption>
      <div ref={place} className="h-40" aria-hidden />
    </figure>
  );
}

/** How the plot is drawn: hairlines and no frame. */
function options(box: HTMLElement, unit: string, point: (says: string) => void): uPlot.Options {
  const style = getComputedStyle(box);
  const colour = (name: string) => style.getPropertyValue(name).trim();
  const rem = parseFloat(getComputedStyle(document.documentElement).fontSize);
  const axis = { stroke: colour("--faded"), font: `${0.75 * rem}px ${colour("--font-mono") || "monospace"}`, ticks: { show: false } };
  return {
    width: box.clientWidth,
    height: box.clientHeight,
    ms: 1,
    legend: { show: false },
    cursor: { drag: { x: false, y: false }, points: { size: 5 } },
    scales: { y: { range: (_, __, most) => [0, Math.max(1, most * 1.1)] } },
    axes: [
      { ...axis, grid: { show: false }, space: 90, values: (_, at) => at.map(clock) },
      { ...axis, grid: { stroke: colour("--rule"), width: 1 }, space: 34, size: 48, values: (_, v) => v.map(short) },
    ],
    // Where values are missing no line is drawn, so that those that are there stand as dots.
    series: [{}, { stroke: colour("--vermilion"), fill: colour("--vermilion-wash"), width: 1.5, points: { show: (u) => u.data[1]!.some((v) => v == null), size: 4, fill: colour("--vermilion") } }],
    hooks: {
      setCursor: [
        (u) => {
          const i = u.cursor.idx;
          const value = i == null ? null : u.data[1]![i];
          point(i == null || value == null ? "" : `${short(value)} ${unit} at ${clock(u.data[0]![i]!)}`);
        },
      ],
    },
  };
}

const short = (n: number) => String(Number(n.toPrecision(3)));
const clock = (at: number) => new Date(at).toLocaleTimeString([], { hour: "2-digit", minute: "2-digit", hourCycle: "h23" });
