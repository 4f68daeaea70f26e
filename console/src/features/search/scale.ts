/** Geometry of the spine, free of any drawing: times to places and back, either end first. */
export interface Axis {
  fromNs: bigint;
  toNs: bigint;
  length: number;
  newestFirst: boolean;
}

/** The place of a time, in pixels from the top, or from the left where the axis lies. */
export function placeOf(axis: Axis, ns: bigint): number {
  const total = Number(axis.toNs - axis.fromNs) || 1;
  const share = Number(ns - axis.fromNs) / total;
  const place = (axis.newestFirst ? 1 - share : share) * axis.length;
  return Math.min(Math.max(place, 0), axis.length);
}

/** The time at a place. */
export function timeAt(axis: Axis, place: number): bigint {
  const share = Math.min(Math.max(place / axis.length, 0), 1);
  const along = axis.newestFirst ? 1 - share : share;
  return axis.fromNs + BigInt(Math.round(Number(axis.toNs - axis.fromNs) * along));
}

const STEPS_S = [
  0.001, 0.01, 0.1, 1, 5, 15, 30, 60, 300, 600, 900, 1800, 3600, 10_800, 21_600, 43_200, 86_400, 604_800,
];

/** Round times for labels, at least `room` pixels apart. */
export function ticks(axis: Axis, room: number): bigint[] {
  const total = Number(axis.toNs - axis.fromNs) / 1e9;
  const wanted = (total * room) / Math.max(axis.length, 1);
  const step = BigInt(Math.round((STEPS_S.find((s) => s >= wanted) ?? wanted) * 1e9)) || 1n;
  const first = (axis.fromNs / step + 1n) * step;
  const out: bigint[] = [];
  for (let t = first; t < axis.toNs && out.length < 100; t += step) out.push(t);
  return out;
}

/** A stretch along the axis and one across it, as a rectangle of the page. */
export function boxOf(lying: boolean, along: number, length: number, across: number, depth: number) {
  return lying
    ? { x: along, y: across, width: length, height: depth }
    : { x: across, y: along, width: depth, height: length };
}
