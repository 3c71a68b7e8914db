// The live view of a stop: one stream of fragments for as long as somebody can see the page.
import { put } from "./fragments.js";
import { say } from "./say.js";

const AGAIN_MS = 1500;

export class Live {
  constructor(address, { makeStream = (to) => new EventSource(to), goTo = () => window.location.reload() } = {}) {
    this.address = address;
    this.makeStream = makeStream;
    this.goTo = goTo;
    this.stream = null;
    this.again = null;
  }

  open() {
    this.close();
    const stream = this.makeStream(this.address);
    this.stream = stream;
    stream.addEventListener("fragments", (event) => {
      say("");
      for (const [id, html] of Object.entries(JSON.parse(event.data))) put(id, html);
      document.documentElement.dataset.shown = String(performance.timeOrigin + performance.now());
    });
    stream.addEventListener("trouble", (event) => say(JSON.parse(event.data)));
    stream.addEventListener("ended", () => {
      this.close();
      this.goTo(); // to the sign-in; what was typed is kept as a draft
    });
    stream.addEventListener("error", () => {
      if (stream.readyState !== 2) { // CLOSED
        say("connecting again");
        return;
      }
      say("not connected: reload this page to go on; nothing that was read is lost");
      // The server is being started again, or the session has ended: try the whole stream anew.
      this.again = setTimeout(() => this.open(), AGAIN_MS);
    });
  }

  close() {
    clearTimeout(this.again);
    if (this.stream) this.stream.close();
    this.stream = null;
  }

  // A page that is left keeps no stream; one that Back brings out again as it was opens it anew.
  watch(page = window) {
    page.addEventListener("pagehide", () => this.close());
    page.addEventListener("pageshow", (event) => { if (event.persisted) this.open(); });
    this.open();
  }
}
