// The panels at the side: controls, autopilot, gains, the world, devices, events.

import { KEYS, fresh } from "./sticks.js";

export const make = (tag, attributes = {}, ...inside) => {
  const e = document.createElement(tag);
  for (const [k, v] of Object.entries(attributes)) {
    if (k.startsWith("on")) e.addEventListener(k.slice(2), v);
    else if (v === true) e.setAttribute(k, "");
    else if (v !== false && v !== null && v !== undefined) e.setAttribute(k, v);
  }
  e.append(...inside);
  return e;
};

export const number = (v) => {
  if (v === undefined || v === null || !Number.isFinite(v)) return "–";
  const a = Math.abs(v);
  return a >= 1000 ? v.toFixed(0) : a >= 100 ? v.toFixed(1) : a >= 1 ? v.toFixed(2) : a < 5e-4 ? "0.000" : v.toFixed(3);
};

const shownRange = (i) => (i.low === null || i.high === null ? "" : `${number(i.low * i.factor)} to ${number(i.high * i.factor)} ${i.shown}`);

export class Panels {
  constructor(page) {
    this.page = page; // {wire, sticks, hello, value, error}
    this.tab = "Fly";
    this.live = []; // functions that write present values, called some times a second
  }

  build() {
    const { hello } = this.page, tabs = document.getElementById("tabs");
    const names = hello.playback ? ["Fly", "Events"] : ["Fly", "Autopilot", "Gains", "World", "Devices", "Events"];
    tabs.replaceChildren(...names.map((n) => make("button", { onclick: (e) => { this.show(n); e.target.blur(); }, id: `tab-${n}` }, n)));
    this.show(names.includes(this.tab) ? this.tab : "Fly");
  }

  show(name) {
    this.tab = name; this.live = [];
    for (const b of document.querySelectorAll("#tabs button")) b.classList.toggle("on", b.id === `tab-${name}`);
    const panel = document.getElementById("panel");
    panel.replaceChildren(...this[`panel${name}`]().flat().filter(Boolean));
    this.refresh();
  }

  refresh() { for (const f of this.live) f(); }

  // A row with a field that sets an input or a parameter in the unit shown, and its present value.
  setter(i, present = i.name) {
    const field = make("input", { type: "text", id: `set-${i.name}`, value: number(i.value * i.factor), title: `${i.meaning || i.name}${shownRange(i) ? `; ${shownRange(i)}` : ""}` });
    const send = () => {
      const v = Number(field.value.replace(",", "."));
      if (!field.value.trim() || !Number.isFinite(v)) return this.page.error(`${i.name} cannot be ${field.value || "nothing"}: a number in ${i.shown || "its unit"} is expected`);
      i.value = v / i.factor;
      this.page.sticks.set(i.name, i.value);
      return this.page.wire.tell("set", { values: { [i.name]: i.value } });
    };
    field.addEventListener("change", send);
    const now = make("span", { class: "num soft" });
    this.live.push(() => {
      const v = this.page.value(present);
      now.textContent = `${number(v === undefined ? undefined : v * i.factor)} ${i.shown}`;
    });
    this.page.need(present);
    return make("div", { class: "row" }, make("label", { for: field.id, title: i.meaning || i.name }, i.name), field, now);
  }

  panelFly() {
    const { hello, sticks } = this.page, rows = [];
    const pad = (id, text, right, up) => {
      const dot = make("i"), law = make("i", { class: "law" }), box = make("div", { class: "pad", id, "aria-label": text }, make("span", {}, text), dot, law);
      law.hidden = true;
      const put = (event) => {
        const r = box.getBoundingClientRect();
        sticks.sources.set(right, Math.max(-1, Math.min(1, ((event.clientX - r.left) / r.width) * 2 - 1)));
        sticks.sources.set(up, Math.max(-1, Math.min(1, 1 - ((event.clientY - r.top) / r.height) * 2)) * (up.endsWith("back") ? -1 : 1));
      };
      box.addEventListener("pointerdown", (e) => { box.setPointerCapture(e.pointerId); put(e); });
      box.addEventListener("pointermove", (e) => { if (e.buttons) put(e); });
      const free = () => { sticks.sources.set(right, 0); sticks.sources.set(up, 0); };
      box.addEventListener("pointerup", free); box.addEventListener("pointercancel", free);
      // where the controls are, not where the hand is: the stick's place among its range
      const at = (source) => {
        const axis = sticks.axes.find((a) => a.source === source), input = axis && sticks.inputs.get(axis.input), v = axis && this.page.value(axis.input);
        return input && v !== undefined ? ((v - input.low) / (input.high - input.low)) * 2 - 1 : 0;
      };
      this.live.push(() => {
        dot.style.left = `${50 + 50 * at(right)}%`;
        dot.style.top = `${50 + 50 * at(up) * (up.endsWith("back") ? 1 : -1)}%`;
      });
      return box;
    };
    if (!hello.playback) {
      rows.push(make("h3", {}, "Stick and pedals: drag, arrow keys, A D; power: W S"));
      rows.push(make("div", { id: "pads" }, pad("stick", "stick", "pad right", "pad back"), pad("second", "pedals, power", "second pad right", "second pad up")));
      for (const i of hello.inputs) if (["stick", "lever"].includes(i.kind)) this.page.need(i.name);
    }
    rows.push(make("h3", { title: "bar: where it is; line: what is commanded; above: the pilot's share; below: that of the laws" }, "Controls: bar actual, line commanded, ▾ pilot, ▴ laws"));
    for (const c of hello.controls) rows.push(this.control(c));
    const levers = hello.inputs.filter((i) => i.kind === "lever" && i.low !== null);
    if (levers.length) rows.push(make("h3", {}, "Levers"));
    for (const i of levers) {
      const slide = make("input", { type: "range", min: i.low, max: i.high, step: (i.high - i.low) / 200, value: i.value, id: `lever-${i.name}`, title: i.meaning });
      slide.addEventListener("input", () => { sticks.set(i.name, Number(slide.value)); this.page.wire.tell("set", { values: { [i.name]: Number(slide.value) } }); });
      const now = make("span", { class: "num soft" });
      this.live.push(() => {
        const v = this.page.value(i.name);
        if (v !== undefined && document.activeElement !== slide) slide.value = v;
        now.textContent = `${number(v === undefined ? undefined : v * i.factor)} ${i.shown}`;
      });
      rows.push(make("div", { class: "row" }, make("label", { for: slide.id, title: i.meaning }, i.name), slide, now));
    }
    return rows;
  }

  control(c) {
    const rail = make("div", { class: "rail" }), actual = make("i", { class: "actual" }), asked = make("i", { class: "asked" }), text = make("span", { class: "num soft" });
    const pilot = make("i", { class: "pilot" }), law = make("i", { class: "law" });
    rail.append(actual, asked, pilot, law);
    const low = c.low ?? -1, high = c.high ?? 1, sticks = Object.entries(c.sticks || {});
    this.page.need(c.name); this.page.need(c.command);
    for (const [n] of sticks) this.page.need(n);
    const place = (v) => Math.max(0, Math.min(100, (100 * (v - low)) / (high - low)));
    this.live.push(() => {
      const now = this.page.value(c.name), want = this.page.value(c.command), zero = place(0);
      if (now === undefined || want === undefined) return;
      actual.style.left = `${Math.min(zero, place(now))}%`; actual.style.width = `${Math.abs(place(now) - zero)}%`;
      asked.style.left = `${place(want)}%`;
      const own = sticks.reduce((sum, [n, slope]) => sum + slope * (this.page.value(n) ?? 0), 0);
      pilot.style.left = `${place(own)}%`; law.style.left = `${place(want - own)}%`;
      pilot.hidden = !sticks.length; law.hidden = !sticks.length;
      text.textContent = `${number(want * c.factor)} / ${number(now * c.factor)} ${c.shown}`;
    });
    return make("div", { class: "control", title: "commanded / actual" }, make("span", { class: "label" }, c.name), rail, text);
  }

  panelAutopilot() {
    const { hello, wire } = this.page, rows = [];
    for (const i of hello.inputs.filter((x) => x.kind === "law")) {
      const button = make("button", { id: `law-${i.name}`, onclick: () => wire.tell("set", { values: { [i.name]: (this.page.value(i.name) ?? 1) > 0.5 ? 0 : 1 } }) });
      this.page.need(i.name);
      this.live.push(() => { const on = (this.page.value(i.name) ?? 1) > 0.5; button.textContent = on ? "engaged" : "disengaged"; button.classList.toggle("on", on); });
      rows.push(make("div", { class: "row" }, make("span", { class: "label", title: i.meaning }, i.name.replace(/^engaged_/, "")), button, ""));
    }
    for (const i of hello.inputs.filter((x) => x.kind === "mode")) {
      const buttons = Object.entries(i.words).map(([word, v]) => make("button", { id: `mode-${i.name}-${word}`, onclick: () => wire.tell("set", { values: { [i.name]: word } }) }, word));
      this.page.need(i.name);
      this.live.push(() => { const now = Math.round(this.page.value(i.name) ?? 0); Object.values(i.words).forEach((v, k) => buttons[k].classList.toggle("on", v === now)); });
      rows.push(make("h3", { title: i.meaning }, i.name), make("div", { class: "modes" }, ...buttons));
    }
    const targets = hello.inputs.filter((x) => x.kind === "target");
    if (targets.length) rows.push(make("h3", {}, "Targets: asked, and where it is"));
    for (const i of targets) {
      rows.push(this.setter(i, i.follows && i.follows in hello.signals ? i.follows : i.name));
      const field = rows[rows.length - 1].querySelector("input");
      this.page.need(i.name);
      // what a mode or a route sets is shown as well, but not while somebody writes
      this.live.push(() => { const v = this.page.value(i.name); if (v !== undefined && document.activeElement !== field) field.value = number(v * i.factor); });
    }
    return rows.length ? rows : [make("p", { class: "soft" }, "This aircraft flies without laws.")];
  }

  panelGains() {
    const { hello } = this.page;
    if (!hello.parameters.length) return [make("p", { class: "soft" }, "No law of this aircraft has parameters.")];
    return [make("h3", {}, "Parameters: a change is an event"), ...hello.parameters.map((p) => this.setter(p))];
  }

  panelWorld() {
    const { hello, wire } = this.page, rows = [], choose = (id, words, act) => {
      const s = make("select", { id }, ...words.map((w) => make("option", {}, w)));
      s.addEventListener("change", () => act(s.value));
      return s;
    };
    rows.push(make("h3", {}, "Air: added to the wind of the place"));
    for (const i of hello.inputs.filter((x) => x.kind === "air" && x.name.startsWith("wind"))) rows.push(this.setter(i));
    rows.push(make("div", { class: "row" }, make("label", { for: "turbulence" }, "turbulence"), choose("turbulence", ["as it began", "none", "light", "moderate", "severe"], (v) => v === "as it began" || wire.tell("turbulence", { severity: v })), ""));
    const faults = hello.inputs.filter((x) => x.kind === "fault");
    if (faults.length) rows.push(make("h3", {}, "Faults"));
    for (const i of faults) {
      const button = make("button", { id: `fault-${i.name}`, title: i.meaning, onclick: () => wire.tell("set", { values: { [i.name]: (this.page.value(i.name) ?? 0) > 0.5 ? 0 : 1 } }) });
      this.page.need(i.name);
      this.live.push(() => { const on = (this.page.value(i.name) ?? 0) > 0.5; button.textContent = on ? "has failed" : "works"; button.classList.toggle("hot", on); });
      rows.push(make("div", { class: "row" }, make("span", { class: "label", title: i.meaning }, i.name), button, ""));
    }
    rows.push(make("h3", {}, "Loading"));
    if (hello.loadings.length > 1) {
      const s = choose("loading", hello.loadings, (v) => wire.tell("loading", { name: v }));
      s.value = hello.loading;
      rows.push(make("div", { class: "row" }, make("label", { for: "loading" }, "loading"), s, ""));
    }
    for (const t of hello.tanks) {
      const signal = `tank_${t.name}`;
      const field = make("input", { type: "text", id: `tank-${t.name}`, title: `0 to ${number(t.capacity)} kg`, placeholder: "kg" }), now = make("span", { class: "num soft" });
      field.addEventListener("change", () => wire.tell("tank", { name: t.name, mass: Number(field.value) }));
      this.page.need(signal);
      this.live.push(() => { now.textContent = `${number(this.page.value(signal))} kg`; });
      rows.push(make("div", { class: "row" }, make("label", { for: field.id }, `tank ${t.name}`), field, now));
    }
    rows.push(make("h3", {}, "States"));
    const name = make("input", { type: "text", id: "state-name", value: "here", maxlength: 40 });
    rows.push(make("div", { class: "row" }, name, make("button", { id: "keep", onclick: () => wire.tell("keep", { name: name.value }).then(() => this.page.kept(name.value)) }, "Save the state"), ""));
    const kept = make("div", { class: "modes", id: "kept" });
    this.live.push(() => {
      if (kept.childElementCount !== this.page.keptNames.size) kept.replaceChildren(...[...this.page.keptNames].map((n) => make("button", { onclick: () => wire.tell("go_back", { name: n }).then(() => this.page.again()) }, `Back to ${n}`)));
    });
    rows.push(kept);
    return rows;
  }

  panelDevices() {
    const { sticks, hello } = this.page, rows = [];
    const list = make("div"), head = make("p", { class: "soft" });
    let shown = "";
    const bars = [];
    this.live.push(() => {
      const devices = sticks.devices(), key = devices.map((d) => `${d.name} ${d.axes.length} ${d.buttons.length}`).join("|");
      head.textContent = !devices.length ? "No gamepad is there: press one of its buttons. Mouse, touch and keys are always there." : "";
      for (const d of devices) if (!d.axes.length) head.textContent = `${d.name} has no axes: it cannot move a control.`;
      if (key !== shown) {
        shown = key; bars.length = 0;
        list.replaceChildren(...devices.flatMap((d) => [make("h3", {}, `${d.number}: ${d.name}`), ...d.axes.map((_, k) => {
          const fill = make("i", { class: "actual" });
          bars.push(() => { const v = sticks.sources.get(`gamepad ${d.number} axis ${k + 1}`) ?? 0; fill.style.left = `${50 + 50 * Math.min(0, v)}%`; fill.style.width = `${50 * Math.abs(v)}%`; });
          return make("div", { class: "control" }, make("span", { class: "label" }, `axis ${k + 1}`), make("div", { class: "rail axis" }, fill), "");
        })]));
      }
      for (const f of bars) f();
    });
    rows.push(head, list, make("h3", {}, "Which source moves which control"));
    const inputs = hello.inputs.filter((i) => i.low !== null && i.high !== null && ["stick", "lever", "target"].includes(i.kind)).map((i) => i.name);
    const sources = () => [...new Set([...Object.keys(KEYS).map((k) => `keys ${k}`), "pad right", "pad back", "second pad right", "second pad up", ...sticks.devices().flatMap((d) => [...d.axes.map((_, k) => `gamepad ${d.number} axis ${k + 1}`), ...d.buttons.map((_, k) => `gamepad ${d.number} button ${k + 1}`)]), ...sticks.axes.map((a) => a.source)])];
    const option = (words, value, act) => {
      const s = make("select", {}, ...words.map((w) => make("option", { selected: w === value }, w)));
      s.addEventListener("change", () => { act(s.value); this.page.saveSticks(); });
      return s;
    };
    const editors = make("div");
    const draw = () => editors.replaceChildren(...sticks.axes.map((a, k) => {
      const fields = ["dead", "centre", "curve", "share"].map((f) => {
        const e = make("input", { type: "number", step: 0.05, min: f === "centre" ? -0.9 : 0, max: f === "centre" || f === "dead" ? 0.9 : 1, value: a[f], title: f === "dead" ? "dead zone" : f });
        e.addEventListener("change", () => { const v = Number(e.value); if (Number.isFinite(v) && v >= Number(e.min) && v <= Number(e.max)) { a[f] = v; this.page.saveSticks(); } else { this.page.error(`${f} cannot be ${e.value}: ${e.min} to ${e.max}`); e.value = a[f]; } });
        return make("label", { class: "soft" }, `${f} `, e);
      });
      const sign = option(["as it is", "reversed"], a.sign < 0 ? "reversed" : "as it is", (v) => { a.sign = v === "reversed" ? -1 : 1; });
      return make("div", { class: "axis-editor" }, option(sources(), a.source, (v) => { a.source = v; }), option(["(nothing)", ...inputs], a.input || "(nothing)", (v) => { a.input = v === "(nothing)" ? "" : v; }), option(["springs", "sets", "moves"], a.mode, (v) => { a.mode = v; }), sign, ...fields, make("button", { title: "take it away", onclick: () => { sticks.axes.splice(k, 1); this.page.saveSticks(); draw(); } }, "×"));
    }));
    draw();
    const load = make("input", { type: "file", accept: ".json", hidden: true });
    load.addEventListener("change", async () => {
      try {
        const data = JSON.parse(await load.files[0].text());
        if (data.dravik_sticks !== 1 || !sticks.fits(data.axes)) throw new Error("it is no file of sticks, version 1");
        sticks.axes = data.axes; this.page.saveSticks(); draw();
      } catch (error) { this.page.error(`the file cannot be read: ${error.message}`); }
      load.value = "";
    });
    const store = () => {
      const a = make("a", { href: URL.createObjectURL(new Blob([JSON.stringify({ dravik_sticks: 1, axes: sticks.axes }, null, 1)], { type: "application/json" })), download: "sticks.json" });
      a.click();
    };
    rows.push(editors, make("div", { class: "modes" }, make("button", { onclick: () => { sticks.axes.push(fresh("gamepad 1 axis 1", "")); draw(); } }, "Another source"), make("button", { onclick: store }, "Save as a file"), make("button", { onclick: () => load.click() }, "Read a file"), load));
    return rows;
  }

  panelEvents() {
    const list = make("div", { id: "events" });
    let shown = null;
    this.live.push(() => {
      if (shown === this.page.events) return;
      shown = this.page.events;
      list.replaceChildren(...shown.slice().reverse().map(([t, text]) => make("div", { class: /fault|crash|stall|beyond/.test(text) ? "bad" : "" }, make("span", { class: "num soft" }, `${t.toFixed(2)} s`), text)));
    });
    return [make("h3", {}, "What has happened, the newest first"), list];
  }
}
