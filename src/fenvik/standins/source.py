"""A pattern source: draws patches and charts on the cable to the displays."""

import asyncio
from typing import Any

from fenvik.core.signal.decoding import Range, encode
from fenvik.core.signal.patterns import PATTERNS, PatternError, pattern_of
from fenvik.core.signal.patterns import Signal as Codes
from fenvik.standins.rpc import Device, Params, Refusal, codes, is_number, text, wrong
from fenvik.standins.world import Picture, Signal, World

FORMATS = ("sdr", "hdr10", "hlg", "dynamic")
BITS = (8, 10)
FRAME_RATES = (23.976, 24, 25, 29.97, 30, 50, 59.94, 60)
COLORIMETRY = ("bt709", "p3d65", "bt2020")
CHART_SIZE = (1280, 720)
RENDER_S = 0.02


class Source(Device):
    """The stand-in pattern source."""

    role = "source"

    def __init__(
        self,
        maker: str,
        model: str,
        serial: str,
        *,
        world: World,
        bits: tuple[int, ...] = BITS,
        formats: tuple[str, ...] = FORMATS,
        only_limited: bool = False,
    ) -> None:
        super().__init__(maker, model, serial, "1.4")
        self.world = world
        self.bits, self.formats, self.only_limited = bits, formats, only_limited
        self.asked_range = "limited"
        self.methods |= {"signal": self.signal, "patch": self.patch, "chart": self.chart, "blank": self.blank}

    def facts(self) -> dict[str, Any]:
        """What the link wants to know of a source."""
        return {
            "formats": list(self.formats),
            "bits": list(self.bits),
            "frame_rates": list(FRAME_RATES),
            "charts": list(PATTERNS),
        }

    async def signal(self, params: Params) -> dict[str, Any]:
        """Set the signal; the screen is black until the next picture."""
        chosen = Signal(text(params, "format"), text(params, "colorimetry"), range=text(params, "range"))
        for name, known in (("bits", self.bits), ("frame_rate", FRAME_RATES)):
            value = params.get(name)
            if not is_number(value):
                raise wrong(f"{name} must be a number.")
            if value not in known:
                raise Refusal(10, f"This source does not send {name} {value}.", name=name)
            setattr(chosen, name, value)
        for name, value, known_texts in (
            ("format", chosen.format, self.formats),
            ("colorimetry", chosen.colorimetry, COLORIMETRY),
            ("range", chosen.range, ("limited", "full")),
        ):
            if value not in known_texts:
                raise Refusal(10, f"This source does not send {name} {value[:40]}.", name=name)
        chosen.bits = int(chosen.bits)
        self.asked_range = chosen.range
        if self.only_limited:
            chosen.range = "limited"  # what is asked for in full range is squeezed on its way out
        self.world.signal = chosen
        self._show(self._grey(0.0))
        return {}

    def _range(self) -> Range:
        return "full" if self.world.signal.range == "full" else "limited"

    def _grey(self, percent: float) -> Picture:
        code = int(encode(percent, self.world.signal.bits, self._range()))
        black = int(encode(0.0, self.world.signal.bits, self._range()))
        return Picture((code, code, code), 100.0, (black, black, black))

    def _show(self, picture: Picture) -> None:
        if self.fault.now != "stuck":
            self.world.picture = picture

    async def patch(self, params: Params) -> dict[str, Any]:
        """Show a patch."""
        bits = self.world.signal.bits
        rgb = codes(params, "rgb", bits)
        black = 0 if self.asked_range == "full" else 16 * 2 ** (bits - 8)
        surround = codes(params, "surround", bits) if "surround" in params else (black, black, black)
        window = params.get("window")
        if not isinstance(window, int | float) or not is_number(window) or not 0 < window <= 100:
            raise wrong("window is a share of the screen's area, above 0 and up to 100 percent.")
        at = params.get("at", [0.5, 0.5])
        if not isinstance(at, list) or len(at) != 2 or not all(is_number(a) and 0 <= a <= 1 for a in at):
            raise wrong("at is two fractions of the screen, from 0 to 1.")
        rgb, surround = self._sent(rgb), self._sent(surround)
        await self._render()
        self._show(Picture(rgb, float(window), surround, (float(at[0]), float(at[1])), frame=self._frame(params)))
        return {}

    def _frame(self, params: Params) -> tuple[float, float, float] | None:
        """Return the metadata that goes with a picture, where some was given. Raises Refusal −32602."""
        told = params.get("frame")
        if told is None:
            return None
        if self.world.signal.format != "dynamic":
            raise wrong("frame goes with the format dynamic.")
        values = [told.get(name) for name in ("min", "average", "max")] if isinstance(told, dict) else []
        if len(values) != 3 or not all(is_number(v) and 0 <= v <= 1 for v in values) or sorted(values) != values:
            raise wrong("frame is min, average and max of PQ signal, 0 to 1, in that order.")
        least, average, most = (float(v) for v in values)
        return least, average, most

    def _sent(self, rgb: tuple[int, int, int]) -> tuple[int, int, int]:
        """Return code values as they go out: squeezed where full range was asked of a source that sends limited alone."""
        if not self.only_limited or self.asked_range != "full":
            return rgb
        bits = self.world.signal.bits
        red, green, blue = (int(c) for c in encode([100.0 * code / (2**bits - 1) for code in rgb], bits, "limited"))
        return red, green, blue

    async def chart(self, params: Params) -> dict[str, Any]:
        """Show a chart."""
        name = text(params, "name")
        if name not in PATTERNS:
            raise Refusal(4, "This source has no such chart.", name=name[:80])
        options = params.get("options", {})
        if not isinstance(options, dict) or not all(isinstance(v, str | int | float) for v in options.values()):
            raise wrong("options are texts or numbers by name.")
        await self._render()
        typed = {str(key): str(value) for key, value in options.items()}
        codes_ = Codes(self.world.signal.bits, self._range())
        try:
            board = await asyncio.to_thread(pattern_of(name).drawn, *CHART_SIZE, codes_, typed)
            moving = pattern_of(name).movement(codes_, typed)
        except PatternError as problem:
            raise Refusal(4, str(problem), name=problem.option or name) from problem
        picture = self._grey(0.0)
        picture.chart, picture.codes, picture.frame = name, board.codes, self._frame(params)
        picture.moving = (
            None if moving is None else {"seconds": moving.seconds, "frames": moving.frames, "box": list(moving.box)}
        )
        self._show(picture)
        return {}

    async def blank(self, _: Params) -> dict[str, Any]:
        """Show black."""
        self._show(self._grey(0.0))
        return {}

    async def _render(self) -> None:
        if self.world.haste != float("inf"):
            await asyncio.sleep(RENDER_S)
