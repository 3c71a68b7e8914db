// Sound, off until wanted: a tick as a reading ends; a tone that falls with the error and is silent within tolerance.
import { say } from "./say.js";

export const sound = {
  on: false,
  context: null,
  newest: null,
  toggle() {
    this.on = !this.on;
    if (this.on && !this.context) this.context = new AudioContext();
    say(this.on ? "sound on" : "sound off", 1500);
  },
  heard(hand) {
    const row = hand.querySelector("[data-reading]");
    const id = row && row.dataset.reading;
    if (!id || id === this.newest) return;
    const first = this.newest === null;
    this.newest = id;
    if (first || !this.on) return;
    const big = hand.querySelector("[data-error]");
    this.say(big ? Number(big.dataset.error) : 0, big ? Number(big.dataset.tolerance) : 0);
  },
  say(error, tolerance) {
    if (error > tolerance) this.tone(220 * 2 ** Math.min(error / 3, 2.5), 0.16);
    else this.tone(1100, 0.012);
  },
  // What an error sounds like, for whoever reads about it; within tolerance where it is 0.
  tryOut(error) {
    if (!this.context) this.context = new AudioContext();
    this.say(error, 0);
  },
  tone(hertz, seconds) {
    const at = this.context.currentTime;
    const gain = this.context.createGain();
    gain.gain.setValueAtTime(0.05, at);
    gain.gain.exponentialRampToValueAtTime(0.0001, at + seconds);
    const oscillator = this.context.createOscillator();
    oscillator.frequency.value = hertz;
    oscillator.connect(gain).connect(this.context.destination);
    oscillator.start(at);
    oscillator.stop(at + seconds);
  },
};
