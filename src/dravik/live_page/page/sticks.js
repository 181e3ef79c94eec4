// What moves the controls: mouse, touch, keys and gamepads, each source shaped and given to an input.
//
// A source is a number from -1 to 1. "springs": it is added to where the control was trimmed; "sets": it is the place
// of the control over its range; "moves": it moves the control as long as it is held.

export const KEYS = { right: ["ArrowLeft", "ArrowRight"], forward: ["ArrowUp", "ArrowDown"], pedals: ["KeyA", "KeyD"], power: ["KeyS", "KeyW"] };
const RATE = 2.5; // full deflections a second of a key that is held
const FULL = 2.0; // s over the whole range, of what moves

export const fresh = (source, input, more = {}) => ({ source, input, mode: "springs", dead: 0, centre: 0, curve: 0.3, sign: 1, share: 0.4, ...more });

// Where the middle, a dead zone, a curve and a share put a source's value.
export function shaped(raw, axis) {
  let v = Math.max(-1, Math.min(1, raw)) - axis.centre;
  v /= v > 0 ? 1 - axis.centre || 1 : 1 + axis.centre || 1; // both ends stay reachable
  v = Math.abs(v) <= axis.dead ? 0 : Math.sign(v) * ((Math.abs(v) - axis.dead) / (1 - axis.dead || 1));
  v = v * (1 - axis.curve) + axis.curve * v * v * v;
  return v * axis.sign;
}

export class Sticks {
  constructor() {
    this.axes = [];
    this.inputs = new Map(); // by name: {low, high, value}
    this.base = new Map(); // where each input is without what springs
    this.sources = new Map(); // present values
    this.held = new Set(); // keys
    this.seen = new Map(); // last value of what sets, so that a lever that is not moved sets nothing
    this.sent = new Map();
    this.locked = true;
  }

  // The inputs of an aircraft, and which source does what unless a file says so.
  learn(inputs, saved) {
    this.inputs = new Map(inputs.filter((i) => i.low !== null && i.high !== null).map((i) => [i.name, i]));
    for (const [name, i] of this.inputs) this.base.set(name, i.value);
    const sticks = inputs.filter((i) => ["stick", "lever", "target"].includes(i.kind) && i.low !== null && i.high !== null);
    const like = (...words) => words.map((w) => sticks.find((i) => w.test(i.name))).find(Boolean)?.name;
    const right = like(/^roll/, /^bank/), pull = like(/^pitch/), yaw = like(/pedal/, /^yaw/, /rudder/), power = like(/throttle/, /power/, /collective/, /thrust/);
    const usual = [];
    // forward is nose down where pull is positive
    if (right) usual.push(fresh("keys right", right), fresh("pad right", right));
    if (pull) usual.push(fresh("keys forward", pull), fresh("pad back", pull));
    if (yaw) usual.push(fresh("keys pedals", yaw), fresh("second pad right", yaw));
    if (power) usual.push(fresh("keys power", power, { mode: "moves", share: 1 }), fresh("second pad up", power, { mode: "moves", share: 1 }));
    if (right) usual.push(fresh("gamepad 1 axis 1", right, { dead: 0.06 }));
    if (pull) usual.push(fresh("gamepad 1 axis 2", pull, { dead: 0.06 }));
    if (yaw) usual.push(fresh("gamepad 1 axis 3", yaw, { dead: 0.06 }));
    if (power) usual.push(fresh("gamepad 1 axis 4", power, { mode: "moves", sign: -1, share: 1, dead: 0.1 }));
    this.axes = saved && this.fits(saved) ? saved : usual;
  }

  fits(axes) {
    return Array.isArray(axes) && axes.every((a) => typeof a.source === "string" && ["springs", "sets", "moves"].includes(a.mode) && ["dead", "centre", "curve", "sign", "share"].every((k) => Number.isFinite(a[k])));
  }

  // Begin from where the controls are now.
  take(values) {
    for (const name of this.inputs.keys()) {
      const now = values(name);
      if (now !== undefined) this.base.set(name, now);
    }
    this.sent.clear(); this.seen.clear();
  }

  // Somebody has set an input by other means: sources go on from there.
  set(name, value) {
    if (this.inputs.has(name)) { this.base.set(name, value); this.sent.set(name, value); }
  }

  key(code, down) {
    for (const [name, [less, more]] of Object.entries(KEYS)) {
      if (code !== less && code !== more) continue;
      if (down) this.held.add(code); else this.held.delete(code);
      // something is sent at once: nobody waits for the next picture
      if (down && !this.sources.get(`keys ${name}`)) this.sources.set(`keys ${name}`, code === more ? 0.15 : -0.15);
      return true;
    }
    return false;
  }

  release() { this.held.clear(); }

  // The devices that are there, with their axes and buttons as they are now.
  devices() {
    const pads = (navigator.getGamepads ? [...navigator.getGamepads()] : []).filter(Boolean);
    return pads.map((p, i) => ({ name: p.id, number: i + 1, axes: [...p.axes], buttons: p.buttons.map((b) => b.value) }));
  }

  poll(dt) {
    for (const [name, [less, more]] of Object.entries(KEYS)) {
      const to = (this.held.has(more) ? 1 : 0) - (this.held.has(less) ? 1 : 0), now = this.sources.get(`keys ${name}`) || 0;
      const step = RATE * dt * (to === 0 ? 2 : 1);
      this.sources.set(`keys ${name}`, Math.abs(to - now) <= step ? to : now + Math.sign(to - now) * step);
    }
    for (const device of this.devices()) {
      device.axes.forEach((v, k) => this.sources.set(`gamepad ${device.number} axis ${k + 1}`, v));
      device.buttons.forEach((v, k) => this.sources.set(`gamepad ${device.number} button ${k + 1}`, v));
    }
  }

  // What is to be sent now: inputs that have changed.
  values(dt) {
    const found = new Map(this.base);
    for (const axis of this.axes) {
      const input = this.inputs.get(axis.input), raw = this.sources.get(axis.source);
      if (!input || raw === undefined) continue;
      const v = shaped(raw, axis), range = input.high - input.low;
      const move = (by) => found.set(axis.input, found.get(axis.input) + by);
      if (axis.mode === "springs") move(v * axis.share * 0.5 * range);
      else if (axis.mode === "moves" && v) {
        const before = this.base.get(axis.input), after = Math.max(input.low, Math.min(input.high, before + (v * axis.share * range * dt) / FULL));
        this.base.set(axis.input, after);
        move(after - before);
      } else if (axis.mode === "sets") {
        const before = this.seen.get(axis.source);
        this.seen.set(axis.source, before === undefined ? raw : before);
        if (before !== undefined && (before === null || Math.abs(raw - before) > 0.04)) {
          this.seen.set(axis.source, null); // it has been moved: from now on it counts
          const place = (input.low + input.high) / 2 + v * axis.share * 0.5 * range;
          move(place - this.base.get(axis.input));
          this.base.set(axis.input, place);
        }
      }
    }
    const changed = {};
    if (this.locked) return changed;
    const used = new Set(this.axes.map((a) => a.input));
    for (const [name, value] of found) {
      const input = this.inputs.get(name), v = Math.max(input.low, Math.min(input.high, value));
      // what no source moves is not sent: a law or a script may set it
      const before = this.sent.has(name) ? this.sent.get(name) : this.base.get(name);
      if (used.has(name) && v !== before) { changed[name] = v; }
      if (used.has(name)) this.sent.set(name, v);
    }
    return changed;
  }
}
