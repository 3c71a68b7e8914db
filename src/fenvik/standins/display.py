"""A display on the device link: pairing, modes, controls. The light itself is made by its optics."""

import hmac
import json
import random
import secrets
from pathlib import Path
from typing import Any

from fenvik.standins.menu import Menu
from fenvik.standins.optics import Optics
from fenvik.standins.rpc import Device, Params, Refusal, text
from fenvik.standins.world import World

TRIES = 3


class Display(Device):
    """A stand-in display with a network control."""

    role = "display"

    def __init__(
        self,
        maker: str,
        model: str,
        serial: str,
        *,
        world: World,
        menu: Menu,
        optics: Optics,
        pair_code: str,
        state: Path | None,
        start_mode: str,
    ) -> None:
        super().__init__(maker, model, serial, "3.2.1")
        self.world, self.menu, self.optics = world, menu, optics
        self._fixed_code, self.shown_code, self._tries = pair_code, "", 0
        self._tokens: set[str] = set()
        self._state = state
        self.wanted_mode = start_mode
        self.notices: list[str] = []
        self._restore()
        self.methods |= {
            "pair": self.pair,
            "state": self.state,
            "modes": self.modes,
            "choose": self.choose,
            "controls": self.controls,
            "set": self.set,
            "reset": self.reset,
            "install": self.install,
            "uninstall": self.uninstall,
        }

    def facts(self) -> dict[str, Any]:
        """Technology and what can be installed."""
        return self.optics.facts()

    @property
    def mode(self) -> str | None:
        """The mode in effect: the wanted one, or the first that takes the signal."""
        arriving = self.world.signal.format
        if arriving in self.menu.modes[self.wanted_mode].signals:
            return self.wanted_mode
        return next((mode.id for mode in self.menu.modes.values() if arriving in mode.signals), None)

    def _restore(self) -> None:
        if self._state is None or not self._state.exists():
            return
        kept = json.loads(self._state.read_text(encoding="utf-8"))
        self.wanted_mode = kept["mode"]
        for name, modes in kept["values"].items():
            for mode, values in modes.items() if name in self.menu.by_input else ():
                self.menu.by_input[name][mode].update(values)

    def keep(self) -> None:
        """Write the settings down, where that was asked for."""
        if self._state is not None:
            self._state.parent.mkdir(parents=True, exist_ok=True)
            kept = {"mode": self.wanted_mode, "values": self.menu.by_input}
            self._state.write_text(json.dumps(kept), encoding="utf-8")

    def choose_mode(self, mode: str) -> None:
        """Choose a mode, by the link or by the remote. Raises Refusal 4."""
        self.menu.mode(mode)
        self.wanted_mode = mode
        self.world.front = self.serial  # whoever works at a display has carried the instruments to it
        self.keep()

    def choose_input(self, name: str) -> None:
        """Watch another input, by the remote. Raises Refusal 4."""
        self.menu.choose_input(name)
        self.world.front = self.serial

    def set_control(self, mode: str, control: str, value: object) -> Any:
        """Set a control, by the link or by the remote. Raises Refusal."""
        now = self.menu.set(mode, control, value)
        self.world.front = self.serial
        self.keep()
        return now

    async def pair(self, params: Params) -> dict[str, Any]:
        """Show a code, or take it and give a token."""
        self.world.front = self.serial
        if "code" not in params:
            self.shown_code = self._fixed_code or f"{random.SystemRandom().randrange(10_000):04d}"
            self._tries = TRIES
            return {"shown": True}
        given = text(params, "code")
        if not self.shown_code or not hmac.compare_digest(given.encode(), self.shown_code.encode()):
            self._tries = max(self._tries - 1, 0)
            if not self._tries:
                self.shown_code = ""
            raise Refusal(2, "That is not the code on the screen.", left=self._tries)
        self.shown_code = ""
        token = secrets.token_urlsafe(24)
        self._tokens.add(token)
        return {"token": token}

    def _paired(self, params: Params) -> None:
        if params.get("token") not in self._tokens:
            raise Refusal(1, "This display has not been paired with you, or no longer is.")

    async def state(self, params: Params) -> dict[str, Any]:
        """Say what it shows."""
        self._paired(params)
        return {
            "mode": self.mode,
            "signal": self.world.signal.format,
            "input": self.menu.input,
            "on_minutes": round((self.world.now() - self.optics.on_since) / 60.0, 2),
            "notices": self.notices,
        }

    async def modes(self, params: Params) -> list[dict[str, Any]]:
        """List the picture modes."""
        self._paired(params)
        return [{"id": m.id, "label": m.label, "signals": list(m.signals)} for m in self.menu.modes.values()]

    async def choose(self, params: Params) -> dict[str, Any]:
        """Choose a mode."""
        self._paired(params)
        self.choose_mode(text(params, "mode"))
        return {}

    async def controls(self, params: Params) -> list[dict[str, Any]]:
        """List the controls of a mode with their values."""
        self._paired(params)
        return self.menu.described(text(params, "mode"))

    async def set(self, params: Params) -> dict[str, Any]:
        """Set a control."""
        self._paired(params)
        return {"value": self.set_control(text(params, "mode"), text(params, "control"), params.get("value"))}

    async def reset(self, params: Params) -> dict[str, Any]:
        """Put a mode back to its factory values."""
        self._paired(params)
        self.menu.reset(text(params, "mode"))
        self.optics.installed.by_mode.pop(text(params, "mode"), None)
        self.optics.installed.count += 1
        self.keep()
        return {}

    async def install(self, params: Params) -> dict[str, Any]:
        """Install curves, a cube, a matrix or a tone in a mode."""
        self._paired(params)
        mode, what = self.menu.mode(text(params, "mode")), text(params, "what")
        self.optics.installed.of(mode.id).put(what, params.get("data"), self.optics.build.installs)
        self.optics.installed.count += 1
        return {}

    async def uninstall(self, params: Params) -> dict[str, Any]:
        """Take away what is installed."""
        self._paired(params)
        mode, what = self.menu.mode(text(params, "mode")), text(params, "what")
        self.optics.installed.of(mode.id).take_away(what, self.optics.build.installs)
        self.optics.installed.count += 1
        return {}
