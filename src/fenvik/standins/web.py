"""The stand-ins' own pages: a display's picture and its menu, worked like a television with its remote; faults."""

import asyncio
import hashlib
import io
import json
from pathlib import Path
from typing import Any

from PIL import Image
from starlette.applications import Starlette
from starlette.exceptions import HTTPException
from starlette.requests import Request
from starlette.responses import FileResponse, JSONResponse, RedirectResponse, Response
from starlette.routing import Route

from fenvik.standins.bench import Bench
from fenvik.standins.display import Display
from fenvik.standins.eye import Eye
from fenvik.standins.faults import KINDS
from fenvik.standins.menu import INPUTS, Mode
from fenvik.standins.rpc import Device, Refusal
from fenvik.standins.screen import picture_of

PAGES = Path(__file__).parent / "pages"
TYPES = {".html": "text/html; charset=utf-8", ".js": "text/javascript", ".css": "text/css"}
POLICY = "default-src 'none'; script-src 'self'; style-src 'self'; connect-src 'self'; img-src 'self'; base-uri 'none'"


class App:
    """Handlers over one bench."""

    def __init__(self, bench: Bench) -> None:
        self.bench, self.person = bench, Eye()

    def routes(self) -> list[Route]:
        """Return the routes of the pages."""
        return [
            Route("/", self.page("index.html")),
            Route("/display/{serial}", self.television),
            Route("/pages/{name}", self.asset),
            Route("/api/devices", self.devices),
            Route("/api/display/{serial}", self.display_state),
            Route("/api/display/{serial}", self.press, methods=["POST"]),
            Route("/display/{serial}/picture.png", self.picture),
            Route("/eye", self.page("eye.html")),
            Route("/api/eye", self.eye),
            Route("/api/world", self.world, methods=["POST"]),
            Route("/api/fault/{serial}", self.fault, methods=["POST"]),
        ]

    def page(self, name: str) -> Any:
        """Return a handler that sends a page."""

        async def send(_: Request) -> Response:
            return FileResponse(PAGES / name, media_type=TYPES[".html"])

        return send

    async def asset(self, request: Request) -> Response:
        """Send a script or a style of the pages."""
        path = PAGES / Path(request.path_params["name"]).name
        if path.suffix not in (".js", ".css") or not path.exists():
            raise HTTPException(404)
        return FileResponse(path, media_type=TYPES[path.suffix])

    def _display(self, request: Request) -> Display:
        serial = request.path_params["serial"]
        for display in self.bench.displays:
            if display.serial == serial:
                return display
        raise HTTPException(404)

    async def television(self, request: Request) -> Response:
        """Send a display's page, or whoever follows an old address to all of them."""
        known = any(d.serial == request.path_params["serial"] for d in self.bench.displays)
        return FileResponse(PAGES / "display.html", media_type=TYPES[".html"]) if known else RedirectResponse("/")

    async def devices(self, _: Request) -> Response:
        """List the devices with their faults."""
        rows = [
            {"role": d.role, "name": d.name, "serial": d.serial, "port": d.port, "fault": d.fault.now}
            | (self._placed(d.serial) if d.role == "meter" else {})
            for d in self.bench.devices
        ]
        world = self.bench.world
        return JSONResponse({"devices": rows, "kinds": KINDS, "front": world.front, "lux": world.room_lux})

    def _placed(self, serial: str) -> dict[str, Any]:
        """Return how a meter is aimed and where it stands, in percent from the middle."""
        world = self.bench.world
        stand = world.stand.get(serial, (0.5, 0.5))
        return {
            "aim": [100.0 * v for v in world.aim.get(serial, (0.0, 0.0))],
            "stand": [round(100.0 * (v - 0.5), 6) for v in stand],
        }

    async def picture(self, request: Request) -> Response:
        """Return how the chart on the cable looks on a display."""
        display = self._display(request)
        codes = display.optics.picture.codes
        if codes is None:
            raise HTTPException(404)
        shown = await asyncio.to_thread(picture_of, display.optics, display.mode, codes)
        data = io.BytesIO()
        await asyncio.to_thread(Image.fromarray(shown).save, data, "PNG", compress_level=1)
        return Response(data.getvalue(), media_type="image/png")

    async def eye(self, request: Request) -> Response:
        """Say how a display's middle looks beside another's to the stand-in eye."""
        known = {display.serial: display for display in self.bench.displays}
        both = [known.get(request.query_params.get(name, "")) for name in ("reference", "other")]
        seen = [None if d is None else d.optics.radiance(d.mode, (0.5, 0.5)) for d in both]
        if seen[0] is None or seen[1] is None:
            raise HTTPException(404)
        look = await asyncio.to_thread(self.person.compare, seen[0], seen[1])
        middles = [d.optics.look(d.mode, d.optics.picture.seen_at((0.5, 0.5))) for d in both if d is not None]
        looks = ["#" + "".join(f"{round(255 * c):02x}" for c in middle) for middle in middles]
        return JSONResponse({"says": look.says, "looks": looks})

    async def world(self, request: Request) -> Response:
        """Carry the instruments to another display, light the room, or let a display be cold again."""
        body, world = await _body(request), self.bench.world
        displays = {display.serial: display for display in self.bench.displays}
        if body.get("front") in displays:
            world.front = str(body["front"])
        if body.get("cold") in displays:
            displays[str(body["cold"])].optics.switch_off_and_on()
        lux = body.get("lux")
        if isinstance(lux, int | float) and not isinstance(lux, bool) and 0 <= lux <= 2000:
            world.room_lux = float(lux)
        stand = body.get("stand")
        if isinstance(stand, dict) and any(m.serial == stand.get("serial") for m in self.bench.meters):
            world.stand[str(stand["serial"])] = (0.5 + _share(stand.get("x")), 0.5 + _share(stand.get("y")))
        aim = body.get("aim")
        if isinstance(aim, dict) and any(m.serial == aim.get("serial") for m in self.bench.meters):
            world.aim[str(aim["serial"])] = (_share(aim.get("x")), _share(aim.get("y")))
        return JSONResponse({"front": world.front, "lux": world.room_lux})

    async def display_state(self, request: Request) -> Response:
        """Return the picture and the menu."""
        return JSONResponse(display_facts(self._display(request), self.bench))

    async def press(self, request: Request) -> Response:
        """Take what the remote did: a mode, or a control's new value."""
        display, body = self._display(request), await _body(request)
        try:
            if "choose" in body:
                display.choose_mode(str(body["choose"]))
            elif "input" in body:
                display.choose_input(str(body["input"]))
            elif display.mode is not None:
                display.set_control(display.mode, str(body.get("control")), body.get("value"))
        except Refusal as refusal:
            return JSONResponse({"error": refusal.message}, status_code=422)
        return JSONResponse(display_facts(display, self.bench))

    async def fault(self, request: Request) -> Response:
        """Set or take away a fault."""
        serial, body = request.path_params["serial"], await _body(request)
        device: Device | None = next((d for d in self.bench.devices if d.serial == serial), None)
        kind = str(body.get("kind", ""))
        if device is None or (kind and kind not in KINDS):
            raise HTTPException(404)
        device.fault.start(kind)
        return JSONResponse({"fault": device.fault.now})


def _share(percent: object) -> float:
    """Return percent of the screen as a fraction, half of it each way at most."""
    if not isinstance(percent, int | float) or isinstance(percent, bool) or not abs(percent) <= 50:
        raise HTTPException(422)
    return float(percent) / 100.0


async def _body(request: Request) -> dict[str, Any]:
    # Only a script of these pages can send this type: another site's form cannot, so nobody else turns the controls.
    if request.headers.get("content-type", "").split(";")[0] != "application/json":
        raise HTTPException(415)
    try:
        body = json.loads(await request.body())
    except ValueError as error:
        raise HTTPException(400) from error
    if not isinstance(body, dict):
        raise HTTPException(400)
    return body


def _offered(display: Display, arriving: str) -> list[Mode]:
    """Return the modes that a remote goes through: those for what is watched, and all where none is."""
    every = list(display.menu.modes.values())
    return [mode for mode in every if arriving in mode.signals] or every


def display_facts(display: Display, bench: Bench) -> dict[str, Any]:
    """Return what the display's page draws."""
    mode, picture = display.mode, display.optics.picture
    side = (picture.window / 100.0) ** 0.5
    look = {
        name: "#" + "".join(f"{round(255 * c):02x}" for c in display.optics.look(mode, rgb))
        for name, rgb in (("patch", picture.rgb), ("surround", picture.surround))
    }
    return {
        "name": display.name,
        "mode": mode,
        "input": display.menu.input,
        "inputs": list(INPUTS),
        "modes": [{"id": m.id, "label": m.label} for m in _offered(display, bench.world.signal.format)],
        "controls": [] if mode is None else display.menu.described(mode),
        "code": display.shown_code,
        "here": bench.world.front == display.serial,
        "signal": bench.world.signal.format,
        "picture": {
            **look,
            "side": side,
            "middle": [picture.middle(a, side) for a in picture.at],
            "chart": picture.chart,
            "drawn": _mark(display, bench) if picture.codes is not None else "",
            "moving": None if picture.moving is None else picture.moving | {"smooth": _is_smooth(display)},
        },
    }


def _is_smooth(display: Display) -> bool:
    """Whether the display makes up pictures between those of a film."""
    return display.mode is not None and display.optics.value(display.mode, "process.motion", "Off") not in (
        "Off",
        False,
    )


def _mark(display: Display, bench: Bench) -> str:
    """Return a mark of everything that a chart's look depends on."""
    picture, signal = display.optics.picture, bench.world.signal
    assert picture.codes is not None
    facts = (
        picture.chart,
        picture.codes.tobytes(),
        repr(signal),
        display.mode,
        repr(sorted(display.menu.values.items())),
    )
    made = hashlib.sha256()
    for fact in facts:
        made.update(fact if isinstance(fact, bytes) else str(fact).encode())
    return made.hexdigest()[:16]


def make_app(bench: Bench) -> Starlette:
    """Return the ASGI application of the pages."""
    app = Starlette(routes=App(bench).routes())

    async def guarded(scope: Any, receive: Any, send: Any) -> None:
        async def with_policy(message: Any) -> None:
            if message["type"] == "http.response.start":
                message["headers"].append((b"content-security-policy", POLICY.encode()))
                message["headers"].append((b"cache-control", b"no-store"))
            await send(message)

        await app(scope, receive, with_policy)

    return guarded  # type: ignore[return-value]
