// What is drawn flat: strips over time, bands of modes, the map, the attitude.

import { colour } from "./gl.js";

export const PAINTS = ["#3fb0a5", "#e0a43a", "#8f9ff0", "#e2645a", "#7fbf5f", "#c58adf", "#5db7e6", "#d8c25a"];
export const BANDS = ["#2d6e7e", "#8a6a2d", "#5b5f9e", "#8a4a48", "#4f7a3e", "#7a5a8a", "#3f7391", "#857a3d"];
const KEPT = 8192; // instants of a signal

// A signal's values over time, the newest KEPT of them.
export class Trace {
  constructor() { this.times = new Float64Array(KEPT); this.values = new Float32Array(KEPT); this.end = 0; }
  add(t, v) {
    // back in time: a reset, another state, a recording that was moved; what is later than now never was
    while (this.end && this.times[(this.end - 1) % KEPT] >= t && this.begin < this.end) this.end--;
    const i = this.end++ % KEPT;
    this.times[i] = t; this.values[i] = v;
  }
  get begin() { return Math.max(0, this.end - KEPT); }
  at(i) { return i % KEPT; }
}

export function drawStrips(flat, box, strips, traces, now, seconds, table, paints) {
  const rows = strips.length, tall = box.height / Math.max(rows, 1), edges = [];
  strips.forEach((name, row) => {
    const trace = traces.get(name), y = box.y + row * tall;
    flat.line(box.x, y, box.x + box.width, y, paints.line);
    if (!trace || trace.end - trace.begin < 1) { edges.push(null); return; }
    const factor = table[name]?.factor ?? 1;
    let first = trace.end - 1;
    while (first > trace.begin && trace.times[trace.at(first - 1)] >= now - seconds) first--;
    let low = Infinity, high = -Infinity;
    for (let i = first; i < trace.end; i++) {
      const v = trace.values[trace.at(i)];
      if (v < low) low = v;
      if (v > high) high = v;
    }
    if (!Number.isFinite(low) || !Number.isFinite(high)) { edges.push(null); return; }
    const least = 1e-3 * Math.max(Math.abs(low), Math.abs(high), 1e-3), middle = (low + high) / 2, half = Math.max((high - low) / 2, least) * 1.15;
    const place = (v) => y + tall * (0.5 - 0.42 * ((v - middle) / half));
    const across = (t) => box.x + box.width * (1 - (now - t) / seconds);
    const stride = Math.max(1, Math.ceil((trace.end - first) / Math.max(80, 2400 / rows))), c = colour(PAINTS[row % PAINTS.length]);
    let u = null, v = null;
    // at even places of the history, so that the line does not shimmer when it moves
    for (let i = Math.ceil(first / stride) * stride; i < trace.end; i += stride) {
      const k = trace.at(i), a = across(trace.times[k]), b = place(trace.values[k]);
      if (u !== null) flat.line(u, v, a, b, c);
      u = a; v = b;
    }
    const k = trace.at(trace.end - 1);
    if (u !== null) flat.line(u, v, across(trace.times[k]), place(trace.values[k]), c);
    edges.push({ low: (middle - half * 1.19) * factor, high: (middle + half * 1.19) * factor, now: trace.values[k] * factor, y, tall });
  });
  return edges;
}

// Bands of modes over time: a row for each, a colour for each mode; returns what to write where.
export function drawBands(flat, box, names, traces, now, seconds) {
  const words = [];
  names.forEach((name, row) => {
    const trace = traces.get(name), y = box.y + row * 15;
    if (!trace || trace.end === trace.begin) return;
    let i = trace.end - 1, end = box.x + box.width;
    while (i >= trace.begin && end > box.x) {
      const mode = trace.values[trace.at(i)];
      while (i - 1 >= trace.begin && trace.values[trace.at(i - 1)] === mode && trace.times[trace.at(i)] > now - seconds) i--;
      const begin = Math.max(box.x, box.x + box.width * (1 - (now - trace.times[trace.at(i)]) / seconds));
      flat.rect(begin, y + 1, end - begin, 13, colour(BANDS[Math.round(mode - 1 + 8) % BANDS.length]));
      if (end - begin > 30) words.push({ name, mode, x: begin - box.x, width: end - begin, row });
      end = begin; i--;
    }
  });
  return words;
}

// The attitude: ground and sky about a mark that stands still, lines each 10 deg, a scale of bank.
export function drawAttitude(flat, box, phi, theta) {
  flat.box(box);
  const x = box.x + box.width / 2, y = box.y + box.height / 2, deg = box.height / 60, c = Math.cos(-phi), s = Math.sin(-phi);
  const turn = (a, b) => [x + a * c - b * s, y + a * s + b * c], far = 3 * box.height, off = (theta * 180) / Math.PI * deg;
  const quad = (top, bottom, paint) => {
    const [a, b, d, e] = [turn(-far, top), turn(far, top), turn(-far, bottom), turn(far, bottom)];
    flat.triangle(...a, ...b, ...d, paint); flat.triangle(...b, ...e, ...d, paint);
  };
  quad(-far, off, colour("#3d6f8f")); quad(off, far, colour("#6b5a45"));
  const white = colour("#f2f2ee");
  for (let k = -90; k <= 90; k += 5) {
    const at = off - k * deg, wide = k === 0 ? far : (k % 10 ? 0.07 : 0.16) * box.width;
    if (Math.abs(at) > 0.46 * box.height && k !== 0) continue;
    flat.line(...turn(-wide, at), ...turn(wide, at), white);
  }
  const r = 0.46 * box.height;
  for (const k of [-60, -45, -30, -20, -10, 0, 10, 20, 30, 45, 60]) {
    const a = (k * Math.PI) / 180, long = k % 30 ? 5 : 9;
    flat.line(x + r * Math.sin(a), y - r * Math.cos(a), x + (r - long) * Math.sin(a), y - (r - long) * Math.cos(a), white);
  }
  const amber = colour("#ffc04a"), [u, v] = turn(0, -(r - 10));
  flat.ring(u, v, 3, amber, true);
  for (const side of [-1, 1]) flat.thick(x + side * 0.1 * box.width, y, x + side * 0.28 * box.width, y, 3, amber);
  flat.ring(x, y, 3, amber);
}

export function drawMap(flat, box, view, crafts, tracks, route, met, next, land, crash, paints) {
  flat.box(box);
  const scale = box.width / view.wide, x = (east) => box.x + box.width / 2 + (east - view.east) * scale, y = (north) => box.y + box.height / 2 - (north - view.north) * scale;
  flat.rect(box.x, box.y, box.width, box.height, paints.ground);
  if (land && !("level" in land)) drawHeights(flat, box, land, x, y, paints);
  const every = 10 ** Math.round(Math.log10(view.wide / 4));
  for (let k = Math.ceil((view.east - view.wide / 2) / every); k * every < view.east + view.wide / 2; k++) flat.line(x(k * every), box.y, x(k * every), box.y + box.height, paints.grid);
  const tall = (view.wide * box.height) / box.width;
  for (let k = Math.ceil((view.north - tall / 2) / every); k * every < view.north + tall / 2; k++) flat.line(box.x, y(k * every), box.x + box.width, y(k * every), paints.grid);
  if (route) {
    for (let i = 1; i < route.north_m.length; i++) flat.line(x(route.east_m[i - 1]), y(route.north_m[i - 1]), x(route.east_m[i]), y(route.north_m[i]), paints.route);
    route.points.forEach((p, i) => {
      // met: filled; the next one: amber; flown past without being met: red
      const c = met[i] ? paints.met : i + 1 === next ? paints.next : i + 1 < next ? paints.missed : paints.point;
      flat.ring(x(p.east_m), y(p.north_m), Math.max(3, Math.min(p.acceptance_m * scale, 400)), c);
      flat.ring(x(p.east_m), y(p.north_m), i + 1 === next ? 4 : 2.5, c, true);
    });
  }
  tracks.forEach((track, k) => {
    const c = colour(PAINTS[k % PAINTS.length]), n = track.length / 3, stride = Math.max(1, Math.floor(n / 1500));
    for (let i = stride; i < n; i += stride) flat.line(x(track[3 * (i - stride) + 1]), y(track[3 * (i - stride)]), x(track[3 * i + 1]), y(track[3 * i]), c);
  });
  crafts.forEach((craft, k) => {
    const a = craft.psi, r = 9, u = x(craft.place[1]), v = y(craft.place[0]), c = colour(PAINTS[k % PAINTS.length]);
    const at = (turn, long) => [u + long * Math.sin(a + turn), v - long * Math.cos(a + turn)];
    flat.triangle(...at(0, r), ...at(2.5, r), ...at(-2.5, r), c);
  });
  if (crash) {
    const u = x(crash[1]), v = y(crash[0]);
    flat.thick(u - 8, v - 8, u + 8, v + 8, 3, paints.crash); flat.thick(u - 8, v + 8, u + 8, v - 8, 3, paints.crash);
  }
  return every;
}

// Land as steps of height: cells that are in the box, few enough that drawing them costs little.
function drawHeights(flat, box, land, x, y, paints) {
  const n = land.count - 1;
  if (!land.shades) {
    const low = Math.min(...land.height), span = Math.max(Math.max(...land.height) - low, 50);
    land.shades = land.height.map((h) => Math.min(7, Math.floor((8 * (h - low)) / span)));
  }
  const cell = Math.abs(x(land.cell) - x(0)), stride = cell < 4 ? 2 : 1;
  for (let i = 0; i < n; i += stride) {
    const v = y(land.north + (i + stride) * land.cell);
    if (v > box.y + box.height || v + stride * cell < box.y) continue;
    for (let j = 0; j < n; j += stride) {
      const u = x(land.east + j * land.cell);
      if (u > box.x + box.width || u + stride * cell < box.x) continue;
      flat.rect(u, v, stride * cell + 0.6, stride * cell + 0.6, paints.heights[land.shades[i * land.count + j]]);
    }
  }
}
