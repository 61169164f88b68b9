import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { geoGraticule, geoMercator, geoPath, type GeoPermissibleObjects } from "d3-geo";
import { useLayoutEffect, useMemo, useRef, useState } from "react";
import { feature } from "topojson-client";
import type { GeometryCollection, Topology } from "topojson-specification";
import { api, body } from "../api";
import { Button } from "../parts/Button";
import { Failure } from "../parts/Failure";
import { count } from "../words";
import { query, type Question } from "./question";

/** South, west, north, east, in degrees. */
type Box = [number, number, number, number];

const world: Box = [-60, -180, 78, 180];
const side = 12;

/** Where what was found was taken: the more pictures, the larger the spot. A spot opens a smaller part of the map. */
export function WhereTaken({ q, placed, go }: { q: Question; placed: number; go: (spot?: string) => void }) {
  const land = useQuery({ queryKey: ["land"], queryFn: coasts, staleTime: Infinity });
  const spots = useQuery({
    queryKey: ["library spots", query(q)],
    queryFn: () =>
      body(
        api.GET("/api/v1/library/spots", {
          params: { query: { ...query(q), ...(q.spot && { map: q.spot }), side } as never },
        }),
      ),
    placeholderData: keepPreviousData,
  });
  const is = spots.data;
  const [south, west, north, east]: Box = is ? [is.south, is.west, is.north, is.east] : world;
  const frame = useRef<HTMLDivElement>(null);
  const [width, setWidth] = useState(800);
  useLayoutEffect(() => {
    const el = frame.current;
    if (!el) return;
    const see = new ResizeObserver(() => setWidth(el.clientWidth));
    see.observe(el);
    return () => see.disconnect();
  }, []);
  const height = Math.round(Math.min(width * 0.6, 380));
  const at = useMemo(
    () =>
      geoMercator()
        .fitExtent(
          [
            [16, 16],
            [width - 16, height - 16],
          ],
          {
            type: "MultiPoint",
            coordinates: [
              [west, south],
              [east, north],
            ],
          },
        )
        .clipExtent([
          [0, 0],
          [width, height],
        ]),
    [south, west, north, east, width, height],
  );
  const draw = geoPath(at);
  const step = Math.max(0.05, (east - west) / 8);
  const lines = geoGraticule()
    .step([step, step])
    .extent([
      [Math.max(-180, west - 12 * step), Math.max(-85, south - 4 * step)],
      [Math.min(180, east + 12 * step), Math.min(85, north + 4 * step)],
    ])();
  const list = is?.spots ?? [];
  const most = Math.max(1, ...list.map((s) => s.n));
  const zoom = (lat: number, lon: number) => {
    const tall = Math.max(0.004, (north - south) / 5);
    const wide = Math.max(0.006, (east - west) / 5);
    const to = [lat - tall / 2, lon - wide / 2, lat + tall / 2, lon + wide / 2];
    go(
      [
        Math.max(-90, to[0] ?? 0),
        Math.max(-180, to[1] ?? 0),
        Math.min(90, to[2] ?? 0),
        Math.min(180, to[3] ?? 0),
      ]
        .map((n) => n.toFixed(4))
        .join(","),
    );
  };
  return (
    <section aria-label="Where they were taken" className="space-y-2">
      <div className="flex flex-wrap items-center justify-between gap-2">
        <p className="text-sm text-quiet">
          {count(placed, "picture tells", "pictures tell")} where {placed === 1 ? "it was" : "they were"}{" "}
          taken. A press on a spot goes nearer.
        </p>
        {q.spot && <Button onClick={() => go(undefined)}>The whole map</Button>}
      </div>
      <Failure error={spots.error ?? land.error} />
      <div
        ref={frame}
        className="relative overflow-hidden rounded-lg border border-line bg-wash"
        style={{ height }}
      >
        <svg width={width} height={height} aria-hidden className="absolute inset-0">
          <path d={draw(lines) ?? ""} className="fill-none stroke-line" />
          {land.data && <path d={draw(land.data) ?? ""} className="fill-plank stroke-rest" />}
        </svg>
        {list.map((s) => {
          const p = at([s.lon, s.lat]);
          if (!p) return null;
          const r = 9 + 17 * Math.sqrt(s.n / most);
          return (
            <button
              key={`${s.lat} ${s.lon}`}
              type="button"
              onClick={() => zoom(s.lat, s.lon)}
              aria-label={`${s.n.toLocaleString("en-GB")} around ${degrees(s.lat, "N", "S")}, ${degrees(s.lon, "E", "W")}`}
              className="absolute grid place-items-center rounded-full border-2 border-plank bg-tide text-xs font-semibold text-plank"
              style={{ left: p[0] - r, top: p[1] - r, width: 2 * r, height: 2 * r }}
            >
              {s.n.toLocaleString("en-GB")}
            </button>
          );
        })}
      </div>
    </section>
  );
}

const degrees = (n: number, plus: string, minus: string) =>
  `${Math.abs(n).toFixed(2)}° ${n < 0 ? minus : plus}`;

/** The coasts (Natural Earth, public domain), which come with the console. */
async function coasts(): Promise<GeoPermissibleObjects> {
  const all = (await import("world-atlas/land-50m.json")).default as unknown as Topology<{
    land: GeometryCollection;
  }>;
  return feature(all, all.objects.land);
}
