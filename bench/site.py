"""A stand-in as a rig, and its truth: what the display really emits, not what a meter says of it."""

import json

import numpy as np

from bench.awaited import result_of
from fenvik.core.colour import difference, itp
from fenvik.core.colour.science import spectrum_to_xyz
from fenvik.core.models.palette import palette_for
from fenvik.core.procedures.steps import Standing
from fenvik.core.signal.decoding import decode, encode
from fenvik.standins.bench import make_bench
from fenvik.standins.rpc import Refusal
from fenvik.standins.world import Picture, Signal

SIX = ((1, 0, 0), (0, 1, 0), (0, 0, 1), (0, 1, 1), (1, 0, 1), (1, 1, 0))


class Site:
    def __init__(self, index, mode, seed, *, meter=1, signal="sdr"):
        self.bench = make_bench(haste=float("inf"), seed=seed)
        self.display, self.mode = self.bench.displays[index], mode
        self.bench.world.front = self.display.serial
        self.bench.world.signal = Signal(signal, "bt709" if signal == "sdr" else "bt2020", 10, "limited", 60.0)
        self.display.wanted_mode = mode
        self.display.optics.on_since = -86_400.0
        self.meter = self.bench.meters[meter]
        self.controls = self.display.menu.described(mode)
        self.sets = 0

    def _show(self, percent):
        codes = tuple(int(c) for c in encode(percent, 10, "limited"))
        self.bench.world.picture = Picture(rgb=codes, window=10.0, surround=(64, 64, 64))
        return decode(codes, 10, "limited")

    def read(self, percent):
        fraction = self._show(percent)
        try:
            return fraction, np.array(result_of(self.meter.read({}))["xyz"])
        except Refusal:
            return fraction, np.zeros(3)

    def look(self):
        left = self.display.mode != self.mode
        if left:
            self.display.choose_mode(self.mode)
        return Standing({c["id"]: c["value"] for c in self.display.menu.described(self.mode)}, left)

    def set(self, control, value):
        self.sets += 1
        return self.display.set_control(self.mode, control, value)

    def install(self, what, data):
        self.display.optics.installed.of(self.mode).put(what, json.loads(json.dumps(data)), self.display.optics.build.installs)
        self.display.optics.installed.count += 1

    def uninstall(self, what):
        self.display.optics.installed.of(self.mode).take_away(what, self.display.optics.build.installs)
        self.display.optics.installed.count += 1

    def hdr_truth(self, target):
        """Return ΔE ITP of greys from 5 % to the peak, of six P3 colours at 100 cd/m² of white, peak and black."""
        def seen(percents):
            fraction, xyz = [], []
            for percent in percents:
                fraction.append(self._show(percent))
                xyz.append(spectrum_to_xyz(self.display.optics.radiance(self.mode, (0.5, 0.5))))
            return np.clip(fraction, 0, 1), np.array(xyz)

        _, ends = seen([(100.0,) * 3, (0.0,) * 3])
        peak, black = ends[0, 1], ends[1, 1]
        top = 100.0 * float(target.fraction(0.98 * peak, peak, black)) if target.curve == "pq" else 100.0
        f, x = seen([(level,) * 3 for level in np.linspace(5.0, top, 21)])
        greys = itp.delta_itp(target.xyz(f, peak, black), x)
        f, x = seen(palette_for(target, peak, black).full)
        colours = itp.delta_itp(target.xyz(f, peak, black), x)
        return greys, colours, peak, black

    def truth(self, target):
        """Return mean and worst CIEDE2000 of 19 greys above 5 %, and of 24 colours."""
        greys = [(level,) * 3 for level in np.linspace(100, 0, 21)]
        share = (25.0, 50.0, 75.0, 100.0)
        colours = [tuple(75.0 if lit else 75.0 * (1 - s / 100) for lit in mix) for mix in SIX for s in share]
        fraction, xyz = [], []
        for percent in (*greys, *colours):
            fraction.append(self._show(percent))
            xyz.append(spectrum_to_xyz(self.display.optics.radiance(self.mode, (0.5, 0.5))))
        f, x = np.clip(fraction, 0, 1), np.array(xyz)
        error = difference.whole(target.xyz(f, x[0, 1], x[20, 1]), x, target.white * x[0, 1]).total
        return error[:19].mean(), error[:19].max(), error[21:].mean(), error[21:].max()
