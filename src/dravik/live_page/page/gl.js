// WebGL: one canvas; lines and filled shapes in pixels for all that is flat, a scene in a framebuffer of its own.

export function program(gl, vertex, fragment) {
  const made = gl.createProgram();
  for (const [kind, text] of [[gl.VERTEX_SHADER, vertex], [gl.FRAGMENT_SHADER, fragment]]) {
    const shader = gl.createShader(kind);
    gl.shaderSource(shader, "#version 300 es\nprecision highp float;\n" + text);
    gl.compileShader(shader);
    if (!gl.getShaderParameter(shader, gl.COMPILE_STATUS)) throw new Error(gl.getShaderInfoLog(shader));
    gl.attachShader(made, shader);
  }
  gl.linkProgram(made);
  if (!gl.getProgramParameter(made, gl.LINK_STATUS)) throw new Error(gl.getProgramInfoLog(made));
  const places = {};
  for (let i = 0; i < gl.getProgramParameter(made, gl.ACTIVE_UNIFORMS); i++) {
    const name = gl.getActiveUniform(made, i).name;
    places[name] = gl.getUniformLocation(made, name);
  }
  return { made, places };
}

export function colour(text) { // "#rrggbb" or "#rrggbbaa" as a number of four octets
  const n = text.replace("#", "").padEnd(8, "f");
  const [r, g, b, a] = [0, 2, 4, 6].map((i) => parseInt(n.slice(i, i + 2), 16));
  return ((a << 24) | (b << 16) | (g << 8) | r) >>> 0;
}

const MOST = 120000; // corners of lines and of triangles

// Flat things in pixels of the page. Groups are cut off at the edges of the box they belong to.
export class Flat {
  constructor(gl) {
    this.gl = gl;
    this.shader = program(gl,
      `layout(location=0) in vec2 place; layout(location=1) in vec4 colour; uniform vec2 size; out vec4 paint;
       void main() { paint = colour; gl_Position = vec4(place.x / size.x * 2.0 - 1.0, 1.0 - place.y / size.y * 2.0, 0.0, 1.0); }`,
      "in vec4 paint; out vec4 seen; void main() { seen = vec4(paint.rgb * paint.a, paint.a); }");
    this.kinds = [gl.TRIANGLES, gl.LINES].map((kind) => {
      const data = new ArrayBuffer(MOST * 12);
      const array = gl.createVertexArray(), buffer = gl.createBuffer();
      gl.bindVertexArray(array);
      gl.bindBuffer(gl.ARRAY_BUFFER, buffer);
      gl.bufferData(gl.ARRAY_BUFFER, data.byteLength, gl.DYNAMIC_DRAW);
      gl.enableVertexAttribArray(0); gl.vertexAttribPointer(0, 2, gl.FLOAT, false, 12, 0);
      gl.enableVertexAttribArray(1); gl.vertexAttribPointer(1, 4, gl.UNSIGNED_BYTE, true, 12, 8);
      return { kind, array, buffer, floats: new Float32Array(data), colours: new Uint32Array(data), count: 0 };
    });
    this.groups = [];
  }

  begin() { for (const k of this.kinds) k.count = 0; this.groups = []; }

  // Begin a group that is cut off at a box {x, y, width, height}.
  box(box) {
    this.close();
    this.groups.push({ box, first: this.kinds.map((k) => k.count), count: [0, 0] });
  }

  close() {
    const last = this.groups[this.groups.length - 1];
    if (last) last.count = this.kinds.map((k, i) => k.count - last.first[i]);
  }

  put(which, x, y, c) {
    const k = this.kinds[which];
    if (k.count >= MOST) return;
    const i = 3 * k.count++;
    k.floats[i] = x; k.floats[i + 1] = y; k.colours[i + 2] = c;
  }

  line(x, y, u, v, c) { this.put(1, x, y, c); this.put(1, u, v, c); }

  triangle(a, b, c, d, e, f, paint) { this.put(0, a, b, paint); this.put(0, c, d, paint); this.put(0, e, f, paint); }

  rect(x, y, w, h, c) { this.triangle(x, y, x + w, y, x, y + h, c); this.triangle(x + w, y, x + w, y + h, x, y + h, c); }

  thick(x, y, u, v, w, c) {
    const d = Math.hypot(u - x, v - y) || 1, a = (-(v - y) / d) * w / 2, b = ((u - x) / d) * w / 2;
    this.triangle(x + a, y + b, u + a, v + b, x - a, y - b, c);
    this.triangle(u + a, v + b, u - a, v - b, x - a, y - b, c);
  }

  ring(x, y, r, c, filled = false) {
    const n = 28;
    for (let i = 0; i < n; i++) {
      const a = (2 * Math.PI * i) / n, b = (2 * Math.PI * (i + 1)) / n;
      if (filled) this.triangle(x, y, x + r * Math.cos(a), y + r * Math.sin(a), x + r * Math.cos(b), y + r * Math.sin(b), c);
      else this.line(x + r * Math.cos(a), y + r * Math.sin(a), x + r * Math.cos(b), y + r * Math.sin(b), c);
    }
  }

  draw(width, height, ratio) {
    const gl = this.gl;
    this.close();
    gl.useProgram(this.shader.made);
    gl.uniform2f(this.shader.places.size, width, height);
    gl.viewport(0, 0, gl.drawingBufferWidth, gl.drawingBufferHeight);
    gl.disable(gl.DEPTH_TEST); gl.enable(gl.BLEND); gl.blendFunc(gl.ONE, gl.ONE_MINUS_SRC_ALPHA); gl.enable(gl.SCISSOR_TEST);
    for (const k of this.kinds) {
      gl.bindBuffer(gl.ARRAY_BUFFER, k.buffer);
      if (k.count) gl.bufferSubData(gl.ARRAY_BUFFER, 0, k.floats, 0, 3 * k.count);
    }
    for (const { box, first, count } of this.groups) {
      gl.scissor(Math.round(box.x * ratio), Math.round((height - box.y - box.height) * ratio), Math.max(0, Math.round(box.width * ratio)), Math.max(0, Math.round(box.height * ratio)));
      this.kinds.forEach((k, i) => {
        if (!count[i]) return;
        gl.bindVertexArray(k.array);
        gl.drawArrays(k.kind, first[i], count[i]);
      });
    }
    gl.disable(gl.SCISSOR_TEST);
  }
}

// -- matrices of four columns, as WebGL takes them -----------------------------------------------------------------

export const turnAbout = (axis, angle) => { // right-handed, three by three, row by row
  const [x, y, z] = axis, c = Math.cos(angle), s = Math.sin(angle), k = 1 - c;
  return [c + x * x * k, x * y * k - z * s, x * z * k + y * s, y * x * k + z * s, c + y * y * k, y * z * k - x * s, z * x * k - y * s, z * y * k + x * s, c + z * z * k];
};

export const apply = (m, v) => [0, 3, 6].map((i) => m[i] * v[0] + m[i + 1] * v[1] + m[i + 2] * v[2]);

export const times = (a, b) => {
  const found = [];
  for (const i of [0, 3, 6]) for (const j of [0, 1, 2]) found.push(a[i] * b[j] + a[i + 1] * b[3 + j] + a[i + 2] * b[6 + j]);
  return found;
};

export const transposed = (m) => [m[0], m[3], m[6], m[1], m[4], m[7], m[2], m[5], m[8]];

// Body to north, east, down by phi, theta, psi (yaw, pitch, roll in this order).
export function attitude(phi, theta, psi) {
  return times(turnAbout([0, 0, 1], psi), times(turnAbout([0, 1, 0], theta), turnAbout([1, 0, 0], phi)));
}

export const columns = (m, p) => new Float32Array([m[0], m[3], m[6], 0, m[1], m[4], m[7], 0, m[2], m[5], m[8], 0, p[0], p[1], p[2], 1]);
