// The web socket: commands with answers, frames of signals, what the server tells. The protocol is documented in
// docs/reference/live-protocol.md.

const HEAD = 40;
const FLAGS = { running: 1, ended: 2, locked: 4, recording: 8 };

export class Wire {
  constructor(told) {
    this.told = told; // {hello, frame, events, pilot, closed, error}
    this.number = 0;
    this.waiting = new Map();
    this.watched = new Map(); // names by the list's number
    this.open();
  }

  open() {
    const token = new URLSearchParams(location.search).get("token");
    const address = `${location.protocol === "https:" ? "wss" : "ws"}://${location.host}/socket`;
    this.socket = new WebSocket(token ? `${address}?token=${encodeURIComponent(token)}` : address);
    this.socket.binaryType = "arraybuffer";
    let greeted = false;
    this.socket.onmessage = (event) => {
      if (event.data instanceof ArrayBuffer) return this.frame(event.data);
      const data = JSON.parse(event.data);
      if ("hello" in data) { greeted = true; this.told.hello(data); }
      else if ("answer" in data) this.answered(data);
      else if ("events" in data) this.told.events(data);
      else if ("pilot_is_there" in data) this.told.pilot(data.pilot_is_there);
    };
    this.socket.onclose = () => {
      for (const { fail } of this.waiting.values()) fail(new Error("the connection has ended"));
      this.waiting.clear();
      this.told.closed(greeted, Boolean(token));
    };
  }

  answered(data) {
    const waits = this.waiting.get(data.answer);
    this.waiting.delete(data.answer);
    if (data.error && !waits) return this.told.error(data.error);
    if (!waits) return undefined;
    return data.error ? waits.fail(new Error(data.error)) : waits.done(data);
  }

  // Have something done, and return a promise of the answer.
  ask(command, fields = {}) {
    const id = ++this.number;
    return new Promise((done, fail) => {
      if (this.socket.readyState !== WebSocket.OPEN) return fail(new Error("there is no connection"));
      this.waiting.set(id, { done, fail });
      this.socket.send(JSON.stringify({ do: command, id, ...fields }));
    });
  }

  // Have something done; what is wrong with it is shown.
  tell(command, fields = {}) {
    return this.ask(command, fields).catch((error) => this.told.error(error.message));
  }

  // Set inputs at a high rate: no answer is waited for.
  set(values) {
    if (this.socket.readyState === WebSocket.OPEN) this.socket.send(JSON.stringify({ do: "set", values }));
  }

  async watch(signals, rate = 60) {
    const { watched } = await this.ask("watch", { signals, rate });
    this.watched.set(watched, signals);
    for (const old of this.watched.keys()) if (old < watched - 3) this.watched.delete(old);
  }

  frame(buffer) {
    const view = new DataView(buffer);
    if (buffer.byteLength < HEAD || view.getUint8(0) !== 1 || view.getUint8(1) !== 1) return;
    const bits = view.getUint16(2, true);
    const names = this.watched.get(view.getUint32(4, true));
    const numbers = new Float32Array(buffer, HEAD);
    if (!names || names.length !== numbers.length) return;
    const flags = {};
    for (const [name, bit] of Object.entries(FLAGS)) flags[name] = Boolean(bits & bit);
    this.told.frame({
      applied: view.getUint32(8, true), step: view.getUint32(12, true), time: view.getFloat64(24, true), flags, names, numbers,
    });
  }
}
