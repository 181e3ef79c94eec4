// The aircraft in space: parts from its drawing, land with a grid, sky, track and route; north, east, down inside.

import { apply, attitude, columns, program, times, transposed, turnAbout } from "./gl.js";

// By how slow the machine is: the scene's share of its size, the canvas's of its own, and which parts are drawn in turn.
const LEVELS = [
  { scale: 1, turns: [["scene", "plot", "map", "attitude"]] },
  { scale: 0.75, turns: [["scene", "attitude"], ["plot", "map"]] },
  { scale: 0.6, turns: [["scene"], ["plot"], ["map", "attitude"]] },
  { scale: 0.5, turns: [["scene"], ["plot"], ["attitude"], ["map"]] },
  { scale: 0.55, canvas: 0.75, turns: [["scene"], ["plot"], ["attitude"], ["map"], ["plot"], ["attitude"]] },
];
const CLOSE = 18; // ms between two frames on average: slower, the next level

const LIGHT = "const vec3 sun = normalize(vec3(0.35, 0.45, -0.82));"; // where it comes from: north, east, down

export class Scene {
  constructor(gl) {
    this.gl = gl;
    this.solid = program(gl,
      `layout(location=0) in vec3 place; layout(location=1) in vec3 normal; uniform mat4 model, look; out vec3 n; out float far;
       void main() { vec4 p = model * vec4(place, 1.0); n = mat3(model) * normal; gl_Position = look * p; far = length(p.xyz); }`,
      `in vec3 n; in float far; uniform vec4 paint; uniform vec3 haze; uniform float reach; out vec4 seen; ${LIGHT}
       void main() { float s = dot(normalize(n), sun), lit = 0.72 + 0.32 * s;
       seen = vec4(mix(paint.rgb * lit, haze, 1.0 - exp(-far / reach)) * paint.a, paint.a); }`);
    this.land = program(gl,
      `layout(location=0) in vec3 place; layout(location=1) in vec3 normal; uniform vec3 offset; uniform vec2 phase; uniform mat4 look; out vec3 n, p; out vec2 at; out float height;
       void main() { p = place + offset; n = normal; at = place.xy + phase; height = -place.z; gl_Position = look * vec4(p, 1.0); }`,
      `in vec3 n, p; in vec2 at; in float height; uniform vec3 haze; uniform float reach, grid, water; uniform vec2 span; out vec4 seen; ${LIGHT}
       float lines(float every) { vec2 g = at / every, w = fwidth(g); vec2 d = abs(fract(g - 0.5) - 0.5) / max(w, vec2(1e-6)); return (1.0 - min(min(d.x, d.y), 1.0)) * clamp(1.0 - max(w.x, w.y) * 2.5, 0.0, 1.0); }
       void main() { float share = clamp((height - span.x) / max(span.y - span.x, 1.0), 0.0, 1.0);
       vec3 low = mix(vec3(0.33, 0.43, 0.31), vec3(0.20, 0.37, 0.46), water), high = vec3(0.60, 0.57, 0.52);
       vec3 c = mix(low, high, share) * (0.55 + 0.5 * max(dot(normalize(n), sun), 0.0));
       c = mix(c, vec3(0.93), 0.16 * lines(grid) + 0.22 * lines(10.0 * grid));
       seen = vec4(mix(c, haze, 1.0 - exp(-length(p) / reach)), 1.0); }`);
    this.sky = program(gl,
      "out vec2 at; void main() { at = vec2(float((gl_VertexID << 1) & 2), float(gl_VertexID & 2)) * 2.0 - 1.0; gl_Position = vec4(at, 1.0, 1.0); }",
      `in vec2 at; uniform mat3 turn; uniform vec2 wide; uniform vec3 haze, zenith; out vec4 seen;
       void main() { vec3 ray = normalize(turn * vec3(1.0, at.x * wide.x, -at.y * wide.y)); float up = -ray.z;
       seen = vec4(up > 0.0 ? mix(haze, zenith, pow(clamp(up, 0.0, 1.0), 0.45)) : haze, 1.0); }`);
    this.thread = program(gl,
      "layout(location=0) in vec3 place; uniform vec3 offset; uniform mat4 look; void main() { gl_Position = look * vec4(place + offset, 1.0); }",
      "uniform vec4 paint; out vec4 seen; void main() { seen = vec4(paint.rgb * paint.a, paint.a); }");
    this.onto = program(gl,
      "out vec2 at; void main() { at = vec2(float((gl_VertexID << 1) & 2), float(gl_VertexID & 2)); gl_Position = vec4(at * 2.0 - 1.0, 0.0, 1.0); }",
      "in vec2 at; uniform sampler2D picture; out vec4 seen; void main() { seen = texture(picture, at); }");
    this.empty = gl.createVertexArray();
    this.target = gl.createFramebuffer();
    this.texture = gl.createTexture();
    this.depth = gl.createRenderbuffer();
    this.size = [0, 0];
    this.parts = [];
    this.view = "behind";
    this.orbit = [0, 0]; // rad, by dragging
    this.level = 0; // of SHOWN, and how often the scene is drawn
    this.gaps = [];
    this.calm = 0; // sets of frames that were on time
    this.count = 0;
    this.spin = 0;
    this.track = this.lines(4096);
    this.route = null;
    this.span = 20;
    this.patch = null;
  }

  lines(most) {
    const gl = this.gl, array = gl.createVertexArray(), buffer = gl.createBuffer();
    gl.bindVertexArray(array); gl.bindBuffer(gl.ARRAY_BUFFER, buffer);
    gl.bufferData(gl.ARRAY_BUFFER, 12 * most, gl.DYNAMIC_DRAW);
    gl.enableVertexAttribArray(0); gl.vertexAttribPointer(0, 3, gl.FLOAT, false, 12, 0);
    return { array, buffer, most, count: 0 };
  }

  // A mesh with one normal for each triangle, from points and triangles.
  mesh(points, triangles) {
    const data = new Float32Array(6 * triangles.length);
    for (let t = 0; t < triangles.length; t += 3) {
      const [a, b, c] = [0, 1, 2].map((k) => points.slice(3 * triangles[t + k], 3 * triangles[t + k] + 3));
      const u = b.map((v, i) => v - a[i]), v = c.map((w, i) => w - a[i]);
      const n = [u[1] * v[2] - u[2] * v[1], u[2] * v[0] - u[0] * v[2], u[0] * v[1] - u[1] * v[0]];
      const long = Math.hypot(...n) || 1;
      [a, b, c].forEach((p, k) => { data.set(p, 6 * (t + k)); data.set(n.map((w) => w / long), 6 * (t + k) + 3); });
    }
    return this.upload(data);
  }

  upload(data, index = null) {
    const gl = this.gl, array = gl.createVertexArray();
    gl.bindVertexArray(array);
    gl.bindBuffer(gl.ARRAY_BUFFER, gl.createBuffer()); gl.bufferData(gl.ARRAY_BUFFER, data, gl.STATIC_DRAW);
    gl.enableVertexAttribArray(0); gl.vertexAttribPointer(0, 3, gl.FLOAT, false, 24, 0);
    gl.enableVertexAttribArray(1); gl.vertexAttribPointer(1, 3, gl.FLOAT, false, 24, 12);
    if (index) { gl.bindBuffer(gl.ELEMENT_ARRAY_BUFFER, gl.createBuffer()); gl.bufferData(gl.ELEMENT_ARRAY_BUFFER, index, gl.STATIC_DRAW); }
    return { array, count: index ? index.length : data.length / 6 };
  }

  setShape(shape, span) {
    this.span = span || 20;
    const moves = (p) => p.kind === "control" || (p.kind === "wheel" && p.signal);
    this.parts = shape.filter(moves).map((p) => ({ ...p, mesh: this.mesh(p.points, p.triangles) }));
    // what stands still is one mesh: each call costs more than its triangles
    for (const kind of ["body", "wheel"]) {
      const points = [], triangles = [];
      for (const p of shape.filter((q) => q.kind !== "disc" && !moves(q) && (q.kind === "wheel") === (kind === "wheel"))) {
        triangles.push(...p.triangles.map((i) => i + points.length / 3));
        points.push(...p.points);
      }
      if (triangles.length) this.parts.push({ kind, mesh: this.mesh(points, triangles) });
    }
    this.discs = shape.filter((p) => p.kind === "disc").map((p) => {
      const round = [0, 0, 0], rim = [], blades = [];
      for (let i = 0; i <= 36; i++) round.push(0, p.radius * Math.cos((Math.PI * i) / 18), p.radius * Math.sin((Math.PI * i) / 18));
      for (let i = 1; i <= 36; i++) rim.push(0, i, i + 1);
      for (const s of [1, -1]) {
        const r = p.radius, w = 0.07 * r;
        blades.push(0, -w, 0.1 * r * s, 0, w, 0.1 * r * s, 0, 0.6 * w, r * s, 0, -0.6 * w, r * s);
      }
      return { ...p, rim: this.mesh(round, rim), blades: this.mesh(blades, [0, 1, 2, 0, 2, 3, 4, 5, 6, 4, 6, 7]) };
    });
  }

  setLand(land) {
    const gl = this.gl;
    if ("level" in land) {
      const r = 60000, h = -land.level;
      const data = new Float32Array([-r, -r, h, 0, 0, -1, r, -r, h, 0, 0, -1, r, r, h, 0, 0, -1, -r, r, h, 0, 0, -1]);
      this.patch = { ...land, mesh: this.upload(data, new Uint32Array([0, 1, 2, 0, 2, 3])), span: [land.level, land.level + 1], low: land.level };
      return;
    }
    const n = land.count, h = land.height, data = new Float32Array(6 * n * n), index = [];
    for (let i = 0; i < n; i++) for (let j = 0; j < n; j++) {
      const k = i * n + j, a = (h[Math.min(i + 1, n - 1) * n + j] - h[Math.max(i - 1, 0) * n + j]) / (2 * land.cell);
      const b = (h[i * n + Math.min(j + 1, n - 1)] - h[i * n + Math.max(j - 1, 0)]) / (2 * land.cell), long = Math.hypot(a, b, 1);
      data.set([i * land.cell, j * land.cell, -h[k], -a / long, -b / long, -1 / long], 6 * k);
      if (i < n - 1 && j < n - 1) index.push(k, k + 1, k + n, k + 1, k + n + 1, k + n);
    }
    const low = Math.min(...h), high = Math.max(...h);
    this.patch = { ...land, mesh: this.upload(data, new Uint32Array(index)), span: [low, Math.max(high, low + 50)], low };
    gl.bindVertexArray(null);
  }

  setRoute(route) {
    if (!route) return;
    const points = [];
    for (let i = 1; i < route.north_m.length; i++) for (const k of [i - 1, i]) points.push(route.north_m[k], route.east_m[k], -route.altitude_m[k]);
    this.route = this.lines(points.length / 3 + 64 * route.points.length);
    this.route.count = points.length / 3;
    this.gl.bindBuffer(this.gl.ARRAY_BUFFER, this.route.buffer);
    this.gl.bufferSubData(this.gl.ARRAY_BUFFER, 0, new Float32Array(points));
  }

  // The rule that adapts: what is too slow is drawn smaller and in turns, until frames are on time again.
  adapt(gap) {
    this.gaps.push(gap);
    if (this.gaps.length < 30) return;
    const middle = this.gaps.reduce((a, b) => a + Math.min(b, 100), 0) / this.gaps.length;
    this.gaps = [];
    if (middle > CLOSE) { this.level = Math.min(this.level + 1, LEVELS.length - 1); this.calm = 0; } else if (this.level > 0 && ++this.calm > 30) { this.level--; this.calm = 0; }
  }

  // The share of its size that the canvas has.
  get canvasShare() { return LEVELS[this.level].canvas || 1; }

  // The parts of the page that are drawn in this frame.
  due() {
    const { turns } = LEVELS[this.level];
    return turns[this.count++ % turns.length];
  }

  prepare(width, height) {
    const gl = this.gl, w = Math.max(2, Math.round(width)), h = Math.max(2, Math.round(height));
    if (this.size[0] === w && this.size[1] === h) return;
    this.size = [w, h];
    gl.bindTexture(gl.TEXTURE_2D, this.texture);
    gl.texImage2D(gl.TEXTURE_2D, 0, gl.RGBA8, w, h, 0, gl.RGBA, gl.UNSIGNED_BYTE, null);
    for (const [k, v] of [[gl.TEXTURE_MIN_FILTER, gl.LINEAR], [gl.TEXTURE_MAG_FILTER, gl.LINEAR], [gl.TEXTURE_WRAP_S, gl.CLAMP_TO_EDGE], [gl.TEXTURE_WRAP_T, gl.CLAMP_TO_EDGE]]) gl.texParameteri(gl.TEXTURE_2D, k, v);
    gl.bindRenderbuffer(gl.RENDERBUFFER, this.depth);
    gl.renderbufferStorage(gl.RENDERBUFFER, gl.DEPTH_COMPONENT24, w, h);
    gl.bindFramebuffer(gl.FRAMEBUFFER, this.target);
    gl.framebufferTexture2D(gl.FRAMEBUFFER, gl.COLOR_ATTACHMENT0, gl.TEXTURE_2D, this.texture, 0);
    gl.framebufferRenderbuffer(gl.FRAMEBUFFER, gl.DEPTH_ATTACHMENT, gl.RENDERBUFFER, this.depth);
    gl.bindFramebuffer(gl.FRAMEBUFFER, null);
  }

  // Where one looks from: a place relative to the aircraft and a turn of forward, right, down to north, east, down.
  camera(craft) {
    const [a, b] = this.orbit, far = 1.45 * this.span;
    if (this.view === "seat") return { place: apply(craft.turn, [0.12 * this.span, 0, -0.09 * this.span]), turn: times(craft.turn, times(turnAbout([0, 0, 1], a), turnAbout([0, 1, 0], -b))) };
    if (this.view === "ground") {
      // a place beside where the view was chosen; it moves on when the aircraft is far away
      const here = craft.place;
      if (!this.stand || Math.hypot(here[0] - this.stand[0], here[1] - this.stand[1]) > 40 * this.span) {
        const ahead = apply(attitude(0, 0, craft.psi), [14 * this.span, 5 * this.span, 0]);
        this.stand = [here[0] + ahead[0], here[1] + ahead[1], Math.min(here[2] + 4 * this.span, -(craft.ground ?? -1e9) - 2)];
      }
      const to = here.map((v, i) => v - this.stand[i]), flat = Math.hypot(to[0], to[1]);
      return { place: this.stand.map((v, i) => v - here[i]), turn: attitude(0, Math.atan2(-to[2], flat), Math.atan2(to[1], to[0])), wide: Math.min(0.5, 3 * this.span / Math.max(flat, 1)) };
    }
    const side = this.view === "side" ? Math.PI / 2 : 0;
    const turn = attitude(0, -0.16 - b, craft.psi + side + a);
    return { place: apply(turn, [-far, 0, 0]), turn };
  }

  draw(box, ratio, crafts, values, now, paints) {
    const gl = this.gl, { scale } = LEVELS[this.level];
    if (box.width < 4 || box.height < 4 || !crafts.length) return;
    this.prepare(box.width * ratio * scale, box.height * ratio * scale);
    this.render(crafts, values, now, paints);
    // onto the page's canvas
    gl.viewport(Math.round(box.x * ratio), Math.round(gl.drawingBufferHeight - (box.y + box.height) * ratio), Math.round(box.width * ratio), Math.round(box.height * ratio));
    gl.disable(gl.DEPTH_TEST); gl.disable(gl.BLEND);
    gl.useProgram(this.onto.made); gl.bindVertexArray(this.empty);
    gl.activeTexture(gl.TEXTURE0); gl.bindTexture(gl.TEXTURE_2D, this.texture);
    gl.uniform1i(this.onto.places.picture, 0);
    gl.drawArrays(gl.TRIANGLES, 0, 3);
  }

  render(crafts, values, now, paints) {
    const gl = this.gl, [w, h] = this.size, first = crafts[0], camera = this.camera(first);
    const haze = paints.haze, zenith = paints.zenith, tall = camera.wide || 0.46, across = (tall * w) / h;
    const eye = camera.place.map((v, i) => v + first.place[i]);
    if (this.patch && !("level" in this.patch)) eye[2] = Math.min(eye[2], -this.heightAt(eye[0], eye[1]) - 1.5);
    if (this.patch && "level" in this.patch) eye[2] = Math.min(eye[2], -this.patch.level - 1.5);
    const near = Math.max(0.02 * this.span, 0.05), deep = 80000, back = transposed(camera.turn);
    // eye axes of WebGL: right, up, backwards
    const m = [back[3], back[4], back[5], -back[6], -back[7], -back[8], -back[0], -back[1], -back[2]];
    const p = [1 / across, 1 / tall, (deep + near) / (near - deep), (2 * deep * near) / (near - deep)];
    const look = new Float32Array([p[0] * m[0], p[1] * m[3], p[2] * m[6], -m[6], p[0] * m[1], p[1] * m[4], p[2] * m[7], -m[7], p[0] * m[2], p[1] * m[5], p[2] * m[8], -m[8], 0, 0, p[3], 0]);
    gl.bindFramebuffer(gl.FRAMEBUFFER, this.target);
    gl.viewport(0, 0, w, h);
    gl.clear(gl.DEPTH_BUFFER_BIT);
    gl.disable(gl.DEPTH_TEST); gl.disable(gl.BLEND); gl.disable(gl.SCISSOR_TEST);
    gl.useProgram(this.sky.made); gl.bindVertexArray(this.empty);
    gl.uniformMatrix3fv(this.sky.places.turn, false, [0, 3, 6, 1, 4, 7, 2, 5, 8].map((i) => camera.turn[i]));
    gl.uniform2f(this.sky.places.wide, across, tall); gl.uniform3fv(this.sky.places.haze, haze); gl.uniform3fv(this.sky.places.zenith, zenith);
    gl.drawArrays(gl.TRIANGLES, 0, 3);
    gl.enable(gl.DEPTH_TEST);
    const reach = Math.max(9000, 600 * this.span);
    if (this.patch) this.drawLand(eye, look, haze, reach);
    gl.enable(gl.BLEND); gl.blendFunc(gl.ONE, gl.ONE_MINUS_SRC_ALPHA);
    gl.useProgram(this.thread.made); gl.uniformMatrix4fv(this.thread.places.look, false, look);
    if (this.route) this.drawThread(this.route, [0, 0, 0], eye, paints.route, gl.LINES);
    this.drawThread(this.track, this.track.origin || [0, 0, 0], eye, paints.track, gl.LINE_STRIP);
    gl.useProgram(this.solid.made);
    gl.uniformMatrix4fv(this.solid.places.look, false, look); gl.uniform3fv(this.solid.places.haze, haze); gl.uniform1f(this.solid.places.reach, 4 * reach);
    crafts.forEach((craft, k) => { if (!(this.view === "seat" && k === 0)) this.drawCraft(craft, k, values, eye, now, paints); });
    gl.bindFramebuffer(gl.FRAMEBUFFER, null);
  }

  heightAt(north, east) { // of the land, m
    const l = this.patch;
    if (!l) return -1e9;
    if ("level" in l) return l.level;
    const a = Math.min(Math.max((north - l.north) / l.cell, 0), l.count - 1.001), b = Math.min(Math.max((east - l.east) / l.cell, 0), l.count - 1.001);
    const i = Math.floor(a), j = Math.floor(b), u = a - i, v = b - j, h = (p, q) => l.height[p * l.count + q];
    return (1 - u) * ((1 - v) * h(i, j) + v * h(i, j + 1)) + u * ((1 - v) * h(i + 1, j) + v * h(i + 1, j + 1));
  }

  drawLand(eye, look, haze, reach) {
    const gl = this.gl, l = this.patch, flat = "level" in l, s = this.land.places;
    const grid = this.span > 5 ? 100 : this.span > 1.5 ? 20 : 5, whole = 10 * grid;
    // level land goes with the eye; its grid stays where it is
    const origin = flat ? [eye[0], eye[1]] : [l.north, l.east];
    gl.useProgram(this.land.made);
    gl.uniform3f(s.offset, origin[0] - eye[0], origin[1] - eye[1], -eye[2]);
    gl.uniform2f(s.phase, origin[0] % whole, origin[1] % whole);
    gl.uniformMatrix4fv(s.look, false, look); gl.uniform3fv(s.haze, haze); gl.uniform1f(s.reach, reach); gl.uniform1f(s.grid, grid);
    gl.uniform2fv(s.span, l.span); gl.uniform1f(s.water, l.is_water ? 1 : 0);
    gl.bindVertexArray(l.mesh.array);
    gl.drawElements(gl.TRIANGLES, l.mesh.count, gl.UNSIGNED_INT, 0);
  }

  drawThread(thread, origin, eye, paint, kind) {
    if (thread.count < 2) return;
    const gl = this.gl;
    gl.uniform3f(this.thread.places.offset, origin[0] - eye[0], origin[1] - eye[1], origin[2] - eye[2]);
    gl.uniform4fv(this.thread.places.paint, paint);
    gl.bindVertexArray(thread.array);
    gl.drawArrays(kind, 0, thread.count);
  }

  setTrack(points) { // north, east, down in a row, of the first flight
    const count = Math.min(points.length / 3, this.track.most), data = new Float32Array(3 * count);
    const origin = [points[0], points[1], points[2]];
    for (let i = 0; i < 3 * count; i++) data[i] = points[i] - origin[i % 3];
    this.gl.bindBuffer(this.gl.ARRAY_BUFFER, this.track.buffer);
    this.gl.bufferSubData(this.gl.ARRAY_BUFFER, 0, data);
    this.track.count = count; this.track.origin = origin;
  }

  drawCraft(craft, k, values, eye, now, paints) {
    const gl = this.gl, s = this.solid.places, place = craft.place.map((v, i) => v - eye[i]);
    const centre = [-craft.cg[0], craft.cg[1], -craft.cg[2]];
    const put = (turn, about, mesh, paint) => { // turned about a point, then as the body is
      const whole = times(craft.turn, turn), off = apply(turn, about).map((v, i) => about[i] - v - centre[i]);
      gl.uniformMatrix4fv(s.model, false, columns(whole, apply(craft.turn, off).map((v, i) => v + place[i])));
      gl.uniform4fv(s.paint, paint);
      gl.bindVertexArray(mesh.array); gl.drawArrays(gl.TRIANGLES, 0, mesh.count);
    };
    const still = [1, 0, 0, 0, 1, 0, 0, 0, 1], value = (name) => (k === 0 && name ? values(name) ?? 0 : 0);
    const own = paints.crafts[k % paints.crafts.length];
    for (const part of this.parts) {
      if (part.kind === "control") {
        const [a, b] = part.hinge, long = Math.hypot(b[0] - a[0], b[1] - a[1], b[2] - a[2]) || 1;
        put(turnAbout(b.map((v, i) => (v - a[i]) / long), part.sign * value(part.signal)), a, part.mesh, paints.control);
      } else if (part.kind === "wheel") {
        const up = value(part.signal), c = [0, 0, up]; // the spring is pressed: the wheel moves up in the body
        gl.uniformMatrix4fv(s.model, false, columns(craft.turn, apply(craft.turn, [-centre[0], -centre[1], -centre[2] - c[2]]).map((v, i) => v + place[i])));
        gl.uniform4fv(s.paint, paints.wheel);
        gl.bindVertexArray(part.mesh.array); gl.drawArrays(gl.TRIANGLES, 0, part.mesh.count);
      } else put(still, [0, 0, 0], part.mesh, own);
    }
    for (const disc of this.discs || []) {
      const power = k === 0 && disc.signal ? values(disc.signal) : 1, x = disc.axis;
      const aside = Math.abs(x[2]) < 0.9 ? [x[1], -x[0], 0] : [0, x[2], -x[1]], long = Math.hypot(...aside) || 1;
      const y = aside.map((v) => v / long), z = [x[1] * y[2] - x[2] * y[1], x[2] * y[0] - x[0] * y[2], x[0] * y[1] - x[1] * y[0]];
      const stand = [x[0], y[0], z[0], x[1], y[1], z[1], x[2], y[2], z[2]];
      const turn = times(stand, turnAbout([1, 0, 0], power === undefined || power > 0 ? now * 0.0171 : 0.4));
      const whole = times(craft.turn, turn), off = apply(craft.turn, disc.centre.map((v, i) => v - centre[i])).map((v, i) => v + place[i]);
      gl.uniformMatrix4fv(s.model, false, columns(whole, off));
      gl.depthMask(false);
      gl.uniform4fv(s.paint, paints.disc); gl.bindVertexArray(disc.rim.array); gl.drawArrays(gl.TRIANGLES, 0, disc.rim.count);
      gl.depthMask(true);
      gl.uniform4fv(s.paint, paints.wheel); gl.bindVertexArray(disc.blades.array); gl.drawArrays(gl.TRIANGLES, 0, disc.blades.count);
    }
  }
}
