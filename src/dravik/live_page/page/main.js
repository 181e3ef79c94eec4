// The page of a live flight: what comes over the wire is drawn, what the pilot does goes back.

import { Flat, attitude, colour } from "./gl.js";
import { Trace, drawAttitude, drawBands, drawMap, drawStrips, PAINTS } from "./flat.js";
import { Panels, make, number } from "./panels.js";
import { Scene } from "./scene.js";
import { Sticks } from "./sticks.js";
import { Wire } from "./wire.js";

const $ = (id) => document.getElementById(id);
const canvas = $("canvas"), sticks = new Sticks();
const kept = (key, value) => { try { return value === undefined ? JSON.parse(localStorage.getItem(key)) : localStorage.setItem(key, JSON.stringify(value)); } catch { return null; } };
const POSE = ["north", "east", "altitude", "phi", "theta", "psi"];
const READ = ["airspeed", "altitude", "height", "climb_rate", "psi", "alpha", "beta", "nz", "mach"];

let hello = null, wire = null, gl, flat, scene, panels;
let values = new Map(), flags = {}, time = 0, step = 0, applied = 0, why = "";
let needed = new Set(), watching = "", strips = [], traces = new Map(), boxes = {}, land = null, landAt = null, landAsked = false;
let tracks = [], met = [], mapView = { wide: 8000 }, isPilot = false, crash = null, edges = [], speed = 1;
let ratio = 1, size = [1, 1], whole = true, share = 1, frames = 0, lastFrame = 0, gap = 0, edgeMarks = [], fresh = false, retake = false;

const page = {
  sticks, events: [], keptNames: new Set(), value: (n) => values.get(n),
  need: (n) => { if (hello && n in hello.signals) needed.add(n); },
  error: (text) => say(text, true),
  kept: (n) => page.keptNames.add(n),
  again: () => again(),
  saveSticks: () => kept(`dravik sticks ${hello.aircraft}`, sticks.axes),
};
// what tests and people who measure look at
window.dravik = { get scene() { return scene; }, get canvas() { return canvas; }, get frames() { return frames; }, get step() { return step; }, get time() { return time; }, get applied() { return applied; }, get level() { return scene?.level; }, values: (n) => values.get(n), get gap() { return gap; }, sticks };

let hiding;
function say(text, bad = false) {
  const m = $("message");
  m.textContent = text; m.hidden = false; m.classList.toggle("bad", bad);
  clearTimeout(hiding);
  hiding = setTimeout(() => { m.hidden = true; }, 6000);
}

// -- what comes over the wire --------------------------------------------------------------------------------------

async function greeted(data) {
  hello = data; page.hello = data; page.wire = wire;
  document.title = `${data.title}: Dravik live`;
  $("title").textContent = data.title;
  $("sub").textContent = data.loading ? `${data.aircraft}, ${data.loading}` : data.aircraft;
  needed = new Set(); values = new Map(); traces = new Map(); met = (data.route?.points || []).map(() => false); tracks = []; crash = null;
  for (const n of [...POSE, ...READ, "ground_height", "cg_x", "cg_y", "cg_z", "route_point", ...Object.keys(data.modes)]) page.need(n);
  for (let k = 2; k <= (data.playback?.flights.length || 1); k++) for (const n of POSE) page.need(`${n}@${k}`);
  for (const p of data.shape) if (p.signal) page.need(p.signal);
  for (const e of data.engines) for (const n of [`power_${e}`, `thrust_${e}`, `rpm_${e}`]) page.need(n);
  for (const n of Object.keys(data.signals)) if (/^(tank_[a-z_0-9]*|charge_[a-z_0-9]*)$/.test(n) && !n.endsWith("_integral")) page.need(n);
  const saved = kept(`dravik strips ${data.aircraft}`);
  strips = (saved || ["altitude", "airspeed", "theta", "phi", "nz"]).filter((n) => n in data.signals).slice(0, 20);
  for (const n of strips) page.need(n);
  sticks.learn(data.inputs, kept(`dravik sticks ${data.aircraft}`));
  scene.setShape(data.shape, data.span); scene.setRoute(data.route);
  panels.build();
  buildReadouts(); buildStrips(); fitMap();
  $("add").replaceChildren(make("option", { value: "" }, "add a signal …"), ...Object.keys(data.signals).map((n) => make("option", { value: n, title: data.signals[n].meaning }, n)));
  const playing = Boolean(data.playback);
  for (const id of ["hand", "locked", "trim", "record"]) $(id).hidden = playing;
  $("playback").hidden = !playing;
  if (!data.pilot_is_there) await wire.ask("pilot", { take: true }).then((a) => { isPilot = a.role === "pilot"; }, () => {});
  await watch();
  role();
  // the stick stands as trimmed until the controls are handed over
  askLand(0, 0, true);
}

async function watch() {
  const names = [...needed].filter((n) => n in hello.signals).slice(0, 590), key = names.join();
  if (key === watching) return;
  watching = key;
  await wire.watch(names);
}

function framed(frame) {
  const late = frame.time < time - 1e-9, was = flags;
  ({ time, step, applied, flags } = frame);
  frame.names.forEach((n, i) => values.set(n, frame.numbers[i]));
  for (const n of new Set([...strips, ...Object.keys(hello.modes)])) {
    const v = values.get(n);
    if (v === undefined) continue;
    if (!traces.has(n)) traces.set(n, new Trace());
    traces.get(n).add(time, v);
  }
  if (late) { tracks = tracks.map((t) => cutTrack(t)); met = met.map(() => false); crash = null; }
  for (let k = 0; k < flights(); k++) {
    const name = (n) => (k ? `${n}@${k + 1}` : n), p = [values.get(name("north")), values.get(name("east")), -values.get(name("altitude"))];
    const t = (tracks[k] ||= []), n = t.length, least = 0.3 * (hello.span || 20);
    if (p.some((v) => v === undefined)) continue;
    if (n < 3 || Math.hypot(p[0] - t[n - 3], p[1] - t[n - 2], p[2] - t[n - 1]) > least) t.push(...p);
    if (t.length > 3 * 4000) tracks[k] = t.filter((_, i) => Math.floor(i / 3) % 2 === 0);
  }
  (hello.route?.points || []).forEach((p, i) => { if (Math.hypot(p.north_m - values.get("north"), p.east_m - values.get("east")) <= p.acceptance_m) met[i] = true; });
  if (flags.ended && !crash) crash = [values.get("north"), values.get("east")];
  if (!flags.ended) crash = null;
  if ((was.locked && !flags.locked) || retake) { sticks.take(page.value); retake = false; }
  sticks.locked = flags.locked || !isPilot;
  fresh = true;
}

// After a reset or another state: what is later than now never was.
function cutTrack(track) {
  const here = [values.get("north"), values.get("east")];
  for (let i = 0; i < track.length; i += 3) if (Math.hypot(track[i] - here[0], track[i + 1] - here[1]) < 2 * (hello.span || 20)) return track.slice(0, i + 3);
  return [];
}

const flights = () => hello.playback?.flights.length || 1;
// Controls are taken over from the next frame: the answer comes before it.
const again = () => { retake = true; };

function told(data) {
  if (data.loading) $("sub").textContent = `${hello.aircraft}, ${data.loading}`;
  page.events = data.events; why = data.why; speed = data.speed;
  page.keptNames = new Set(data.kept);
  if ([...$("speed").options].some((o) => Number(o.value) === speed)) $("speed").value = String(speed);
}

function askLand(north, east, first = false) {
  if (landAsked || (land && "level" in land && !first)) return;
  landAsked = true;
  const half = Math.max(600 * (hello.span || 20), 8000);
  wire.ask("land", { north, east, half: Math.min(half, 20000) }).then((a) => { land = a.land; landAt = [north, east, half]; scene.setLand(land); landAsked = false; }, (e) => {
    landAsked = false;
    if (/other land/.test(e.message)) setTimeout(() => askLand(north, east, first), 1500); else say(e.message, true);
  });
}

function role() {
  $("role").textContent = isPilot ? "Give up the controls" : "Take the controls";
  for (const e of document.querySelectorAll("header button, header select")) if (!["role", "theme"].includes(e.id)) e.disabled = !isPilot;
}

function begin() {
  wire = new Wire({
    hello: greeted, frame: framed, events: told, error: page.error,
    pilot: (there) => { if (!there && !isPilot) say("nobody has the controls: take them"); },
    closed: (greetedOnce, token) => {
      isPilot = false; sticks.locked = true;
      $("state").textContent = "no connection"; $("state").className = "badge bad";
      if (greetedOnce) { say("the connection has ended; trying again", true); setTimeout(begin, 1500); } else {
        say(token ? "no way in: the token is wrong, or too many are here" : "no way in: the address lacks its token, or too many are here. Use the address that dravik live has printed", true);
        setTimeout(begin, 5000);
      }
    },
  });
  page.wire = wire;
}

// -- what does not change at each frame ------------------------------------------------------------------------------

let readouts = [];
function buildReadouts() {
  const rows = READ.filter((n) => n in hello.signals).map((n) => ({ n, label: { psi: "heading", nz: "load factor", climb_rate: "climb" }[n] || n.replace("_", " ") }));
  for (const e of hello.engines) for (const [n, label] of [[`rpm_${e}`, `rpm ${e}`], [`power_${e}`, `power ${e}`], [`thrust_${e}`, `thrust ${e}`]]) if (n in hello.signals) { rows.push({ n, label }); break; }
  for (const n of needed) if (/^(tank|charge)_/.test(n)) rows.push({ n, label: n.replace("tank_", "").replace("charge_", "charge ").replace("_", " ") });
  const shown = rows.map(({ n, label }) => {
    const value = make("b"), row = hello.signals[n];
    const box = make("div", { id: `read-${n}`, title: row.meaning || n }, make("small", {}, label), value);
    return { box, write: () => {
      let v = values.get(n);
      if (v !== undefined) v *= row.factor;
      if (n === "psi" && v !== undefined) v = ((v % 360) + 360) % 360;
      value.textContent = `${n === "psi" && v !== undefined ? v.toFixed(0).padStart(3, "0") : number(v)} ${row.shown}`;
      if (n === "alpha") box.classList.toggle("bad", stalls() > 0.9);
    } };
  });
  $("readouts").replaceChildren(...shown.map((s) => s.box));
  readouts = shown.map((s) => s.write);
}

const stalls = () => (hello?.stall && (values.get("airspeed") ?? 0) > 3 ? (values.get("alpha") ?? 0) / hello.stall : 0);

function buildStrips() {
  const plot = $("plot");
  plot.replaceChildren();
  edgeMarks = strips.map((n, k) => {
    const name = make("span", { class: "name", style: `color:${PAINTS[k % PAINTS.length]}` }), text = make("span", { title: hello.signals[n].meaning });
    name.append(text, make("button", { title: "take it away", "aria-label": `take ${n} away`, onclick: () => chooseStrips(strips.filter((x) => x !== n)) }, "×"));
    const top = make("span", { class: "edge" }), low = make("span", { class: "edge" });
    plot.append(name, top, low);
    return { text, name, top, low };
  });
  plot.append(make("div", { id: "modes" }));
}

function chooseStrips(names) {
  strips = names.slice(0, 20);
  for (const n of strips) page.need(n);
  kept(`dravik strips ${hello.aircraft}`, strips);
  buildStrips(); watch(); measure();
}

function fitMap() {
  const r = hello.route;
  if (r) mapView.wide = 1.5 * Math.max(Math.max(...r.east_m) - Math.min(...r.east_m), (Math.max(...r.north_m) - Math.min(...r.north_m)) * 1.7, 200);
  else mapView.wide = Math.max(400 * (hello.span || 20), 500);
}

function measure() {
  const around = canvas.getBoundingClientRect();
  ratio = Math.min(window.devicePixelRatio || 1, 2) * scene.canvasShare;
  share = scene.canvasShare;
  size = [around.width, around.height];
  canvas.width = Math.max(1, Math.round(around.width * ratio)); canvas.height = Math.max(1, Math.round(around.height * ratio));
  whole = true; // the canvas is empty now
  for (const id of ["scene", "plot", "map", "attitude"]) {
    const r = $(id).getBoundingClientRect();
    boxes[id] = { x: r.left - around.left, y: r.top - around.top, width: r.width, height: r.height };
  }
}

// -- frames -----------------------------------------------------------------------------------------------------------

const light = () => document.documentElement.classList.contains("light");
const hex = (text) => [1, 3, 5].map((i) => parseInt(text.slice(i, i + 2), 16) / 255);
const solid = (text, a = 1) => [...hex(text), a];
const PAINT = {
  dark: { haze: hex("#8fa6b3"), zenith: hex("#274a66"), crafts: ["#d9dde0", "#e0b070", "#9aa8f0", "#a0d080"].map((c) => solid(c)), control: solid("#e08a3a"), wheel: solid("#2a2f33"), disc: solid("#c9d6dc", 0.22), route: solid("#ffffff", 0.8), track: solid("#3fb0a5", 0.9) },
  light: { haze: hex("#cfdde5"), zenith: hex("#6f9fc4"), crafts: ["#f2f2ee", "#e0b070", "#9aa8f0", "#a0d080"].map((c) => solid(c)), control: solid("#d0742a"), wheel: solid("#33393d"), disc: solid("#ffffff", 0.3), route: solid("#203040", 0.8), track: solid("#08796f", 0.9) },
};
const shades = (a, b) => Array.from({ length: 8 }, (_, i) => colour("#" + hex(a).map((v, k) => Math.round(255 * (v + (hex(b)[k] - v) * i / 7)).toString(16).padStart(2, "0")).join("")));
const MAP = {
  dark: { back: colour("#14191d"), line: colour("#313c44"), ground: colour("#222b30"), grid: colour("#ffffff18"), heights: shades("#24312b", "#6a6357"), route: colour("#dbe3e7a0"), met: colour("#3fb0a5"), next: colour("#e0a43a"), missed: colour("#e2645a"), point: colour("#8fa0aa"), crash: colour("#e2645a") },
  light: { back: colour("#f3f5f6"), line: colour("#cdd6da"), ground: colour("#e4e9e6"), grid: colour("#00000018"), heights: shades("#d5e0d2", "#a89f90"), route: colour("#203040a0"), met: colour("#08796f"), next: colour("#a86a00"), missed: colour("#c0392f"), point: colour("#5d6e78"), crash: colour("#c0392f") },
};

function crafts() {
  return Array.from({ length: flights() }, (_, k) => {
    const v = (n) => values.get(k ? `${n}@${k + 1}` : n) ?? 0;
    const cg = k || !values.has("cg_x") ? hello.cg || [0, 0, 0] : ["cg_x", "cg_y", "cg_z"].map(v);
    return { place: [v("north"), v("east"), -v("altitude")], turn: attitude(v("phi"), v("theta"), v("psi")), psi: v("psi"), cg, ground: values.get("ground_height") };
  });
}

let slow = 0, mapAt = 0, every = 1000, bands = [], words = [], upper = { height: 0 };

function drawPlot(seconds, paint) {
  const plot = boxes.plot;
  bands = Object.keys(hello.modes).filter((n) => traces.has(n));
  upper = { ...plot, height: Math.max(10, plot.height - 15 * bands.length) };
  flat.box(plot);
  flat.rect(plot.x, plot.y, plot.width, plot.height, paint.back);
  edges = drawStrips(flat, upper, strips, traces, time, seconds, hello.signals, paint);
  words = drawBands(flat, { ...plot, y: plot.y + upper.height }, bands, traces, time, seconds);
}

function draw(now) {
  requestAnimationFrame(draw);
  gap = now - lastFrame; lastFrame = now;
  scene.adapt(gap);
  if (scene.canvasShare !== share) measure();
  const dt = Math.min(gap / 1000, 0.1);
  sticks.poll(dt);
  sendSticks(dt);
  if (!hello || !values.size) return;
  frames++;
  const here = crafts(), seconds = Number($("window").value), theme = light() ? "light" : "dark";
  if (now - mapAt > 400 && tracks[0]?.length > 5) { scene.setTrack(tracks[0].slice(-3 * 4000)); mapAt = now; }
  // what is not drawn in this frame stays as it was
  const due = whole ? ["scene", "plot", "map", "attitude"] : scene.due(), paint = MAP[theme];
  whole = false;
  if (due.includes("scene")) scene.draw(boxes.scene, ratio, here, page.value, now, PAINT[theme]);
  flat.begin();
  if (due.includes("plot")) drawPlot(seconds, paint);
  if (due.includes("map")) {
    mapView.north = here[0].place[0]; mapView.east = here[0].place[1];
    every = drawMap(flat, boxes.map, mapView, here, tracks, hello.route, met, values.get("route_point") ?? 0, land, crash, paint);
  }
  if (due.includes("attitude") || (due.includes("scene") && boxes.attitude.width)) drawAttitude(flat, boxes.attitude, values.get("phi") ?? 0, values.get("theta") ?? 0);
  flat.draw(size[0], size[1], ratio);
  if (now - slow > 180) { slow = now; texts(); }
  if (fresh) { fresh = false; if (land && landAt && !("level" in land) && !hello.playback) { const [a, b, half] = landAt; if (Math.max(Math.abs(here[0].place[0] - a), Math.abs(here[0].place[1] - b)) > 0.5 * half) askLand(here[0].place[0], here[0].place[1]); } }
}

// What is written: five times a second, since writing costs more than drawing.
function texts() {
  for (const f of readouts) f();
  panels.refresh();
  $("clock").textContent = `${time.toFixed(1)} s`;
  const state = $("state"), isLive = !hello.playback;
  state.textContent = flags.ended ? "ended" : flags.running ? (speed === 1 ? "running" : `running × ${speed}`) : "paused";
  state.className = `badge ${flags.ended ? "bad" : flags.running ? "good" : "warn"}`;
  $("lock").hidden = !isLive;
  $("lock").textContent = flags.locked ? "controls locked" : isPilot ? "you fly" : "the pilot flies";
  $("lock").className = `badge ${flags.locked ? "warn" : "good"}`;
  $("run").textContent = flags.running ? "Pause" : "Run";
  $("record").classList.toggle("hot", Boolean(flags.recording));
  $("record").textContent = flags.recording ? "End the recording" : "Record";
  $("crash").hidden = !flags.ended;
  $("crash").textContent = `${why || "the flight has ended"} at ${time.toFixed(2)} s. R goes back to the start.`;
  $("stall").hidden = !(stalls() > 0.9);
  $("stall").textContent = stalls() > 1 ? "STALLED" : "NEAR THE STALL";
  $("scale").textContent = every >= 1000 ? `grid ${every / 1000} km` : `grid ${every} m`;
  edges.forEach((e, k) => {
    const m = edgeMarks[k];
    if (!e || !m) return;
    const n = strips[k], unit = hello.signals[n].shown, y = e.y - boxes.plot.y;
    m.text.textContent = `${n} ${number(e.now)} ${unit}`;
    m.name.style.top = `${y + 1}px`; m.top.style.top = `${y}px`; m.low.style.top = `${y + e.tall - 15}px`;
    m.top.textContent = number(e.high); m.low.textContent = number(e.low);
    m.top.hidden = m.low.hidden = e.tall < 26;
  });
  const modes = $("modes");
  if (modes) modes.replaceChildren(...words.map((w) => make("span", { class: "mode", style: `left:${w.x + 4}px;width:${w.width - 6}px;top:${upper.height + 15 * w.row}px;color:#fff` }, `${w.name}: ${hello.modes[w.name][Math.round(w.mode) - 1] || ""}`)));
  if (hello.playback) {
    const { begin: a, end: b } = hello.playback;
    if (document.activeElement !== $("bar")) $("bar").value = Math.round((1000 * (time - a)) / (b - a));
    $("at").textContent = `${time.toFixed(1)} of ${b.toFixed(1)} s`;
  }
  watch();
}

// -- what the pilot does ------------------------------------------------------------------------------------------------

function sendSticks(dt) {
  if (!hello || !isPilot || flags.locked || hello.playback) return;
  const changed = sticks.values(dt);
  if (Object.keys(changed).length) wire.set(changed);
}

const toggle = () => wire.tell(flags.running ? "pause" : "resume");
const reset = () => wire.tell("reset").then(() => { again(); say("back at the start"); });
const act = {
  run: toggle, step: () => wire.tell("step", { steps: 1 }), reset, hand: () => wire.tell("hand_over"), locked: () => wire.tell("lock"),
  trim: () => wire.tell("to_trim").then(again),
  record: () => wire.ask("record", { on: !flags.recording }).then((a) => say(a.file ? `${flags.recording ? "written" : "recording"}: ${a.file}` : "nothing was recorded"), (e) => page.error(e.message)),
  theme: () => { document.documentElement.classList.toggle("light"); kept("dravik light", light()); $("theme").textContent = light() ? "Dark" : "Light"; },
  role: () => wire.ask("pilot", { take: !isPilot }).then((a) => { isPilot = a.role === "pilot"; sticks.locked = !isPilot; role(); }, (e) => page.error(e.message)),
};
const SHORT = { Space: "run", KeyR: "reset", KeyH: "hand", KeyL: "locked", KeyT: "trim" };

function listen() {
  for (const [id, f] of Object.entries(act)) $(id).addEventListener("click", () => { f(); $(id).blur(); });
  $("speed").addEventListener("change", () => wire.tell("speed", { times: Number($("speed").value) }));
  $("add").addEventListener("change", () => { const n = $("add").value; $("add").value = ""; if (n && !strips.includes(n)) chooseStrips([...strips, n]); });
  $("bar").addEventListener("input", () => { const { begin: a, end: b } = hello.playback; wire.tell("go_to", { time: a + ((b - a) * Number($("bar").value)) / 1000 }); });
  const writes = (e) => ["INPUT", "SELECT", "TEXTAREA"].includes(e.target.tagName) && e.target.type !== "range";
  addEventListener("keydown", (e) => {
    if (writes(e) || e.ctrlKey || e.metaKey || e.altKey || !hello) return;
    if (SHORT[e.code]) { if (!e.repeat && isPilot && !$(SHORT[e.code]).hidden) act[SHORT[e.code]](); e.preventDefault(); return; }
    if (!e.repeat && sticks.key(e.code, true)) sendSticks(0);
    if (e.code.startsWith("Arrow")) e.preventDefault();
  });
  addEventListener("keyup", (e) => sticks.key(e.code, false));
  addEventListener("blur", () => sticks.release());
  addEventListener("resize", measure);
  for (const id of ["left", "scene", "plot", "map"]) new ResizeObserver(measure).observe($(id));
  for (const b of document.querySelectorAll("#views button")) b.addEventListener("click", () => {
    scene.view = b.dataset.view; scene.stand = null; scene.orbit = [0, 0];
    for (const o of document.querySelectorAll("#views button")) o.classList.toggle("on", o === b);
    b.blur();
  });
  for (const b of document.querySelectorAll("#zoom button")) b.addEventListener("click", () => { mapView.wide = Math.max(20, Math.min(4e5, mapView.wide * Number(b.dataset.zoom))); });
  $("map").addEventListener("wheel", (e) => { mapView.wide = Math.max(20, Math.min(4e5, mapView.wide * (e.deltaY > 0 ? 1.2 : 1 / 1.2))); e.preventDefault(); }, { passive: false });
  let drag = null;
  $("scene").addEventListener("pointerdown", (e) => { if (e.target === $("scene")) { drag = [e.clientX, e.clientY]; $("scene").setPointerCapture(e.pointerId); } });
  $("scene").addEventListener("pointermove", (e) => { if (!drag) return; scene.orbit[0] += (e.clientX - drag[0]) / 180; scene.orbit[1] = Math.max(-1.2, Math.min(1.2, scene.orbit[1] + (e.clientY - drag[1]) / 220)); drag = [e.clientX, e.clientY]; });
  $("scene").addEventListener("pointerup", () => { drag = null; });
}

try {
  if (kept("dravik light")) { document.documentElement.classList.add("light"); $("theme").textContent = "Dark"; }
  gl = canvas.getContext("webgl2", { alpha: false, antialias: false, preserveDrawingBuffer: true, powerPreference: "high-performance" });
  if (!gl) throw new Error("this browser has no WebGL 2");
  flat = new Flat(gl); scene = new Scene(gl); panels = new Panels(page);
  listen(); measure(); begin();
  requestAnimationFrame(draw);
} catch (error) {
  say(`the page cannot be drawn: ${error.message}`, true);
  $("state").textContent = "not drawn";
}
