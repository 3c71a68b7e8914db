"""The set of stand-ins that ships: who they are, and how they are put together."""

from dataclasses import dataclass
from pathlib import Path

from fenvik.standins.directory import Directory
from fenvik.standins.display import Display
from fenvik.standins.faults import AFTER_CALLS, LASTS_S, ROLE_OF
from fenvik.standins.menu import Menu
from fenvik.standins.meter import CHEAP_COLORIMETER, COLORIMETER, SPECTRORADIOMETER, Meter
from fenvik.standins.models import (
    lamp_build,
    lamp_menu,
    lcd_build,
    lcd_menu,
    oled_build,
    oled_menu,
    projector_build,
    projector_menu,
    quantum_dot_build,
    quantum_dot_menu,
)
from fenvik.standins.optics import Build, Optics
from fenvik.standins.rpc import Device
from fenvik.standins.source import Source
from fenvik.standins.world import World

HOST = "127.0.0.1"


@dataclass
class Bench:
    """All stand-ins of one process."""

    world: World
    directory: Directory
    displays: list[Display]
    meters: list[Meter]
    sources: list[Source]

    @property
    def devices(self) -> list[Device]:
        """Every device but the directory."""
        return [*self.displays, *self.meters, *self.sources]

    def start_fault(self, kind: str, *, after: int = AFTER_CALLS, lasts_s: float = LASTS_S) -> None:
        """Arm a fault on every device of the role that it belongs to; meters unless it is another's."""
        role = ROLE_OF.get(kind, "meter")
        for device in self.devices:
            if device.role == role:
                device.fault.start(kind, after=after, lasts_s=lasts_s)


def make_bench(*, haste: float = 1.0, pair_code: str = "", state: Path | None = None, seed: int = 55) -> Bench:
    """Put the stand-ins together; the seed decides the samples, not the models."""
    world = World(haste)
    displays = [
        _display(world, ("Orrefall", "55", "OF55-0417"), lcd_menu(), lcd_build(), "m2", seed, pair_code, state),
        _display(world, ("Skerry", "W65", "SW65-0112"), oled_menu(), oled_build(), "p2", seed + 10, pair_code, state),
        _display(
            world,
            ("Loftlight", "L4", "LL4-0093"),
            projector_menu(),
            projector_build(),
            "c2",
            seed + 20,
            pair_code,
            state,
        ),
    ]
    displays += [
        _display(
            world,
            ("Alderwick", "Q75", "AQ75-0308"),
            quantum_dot_menu(),
            quantum_dot_build(),
            "q2",
            seed + 30,
            pair_code,
            state,
        ),
        _display(world, ("Cobblemere", "H2", "CH2-0071"), lamp_menu(), lamp_build(), "l2", seed + 40, pair_code, state),
    ]
    world.front = displays[0].serial
    meters = [
        Meter("Pebble", "C1", "PC1-2209", kind=COLORIMETER, world=world, displays=displays, seed=seed + 1),
        Meter("Tarn", "S2", "TS2-0031", kind=SPECTRORADIOMETER, world=world, displays=displays, seed=seed + 2),
    ]
    meters.append(
        Meter("Minnow", "M", "MM-0954", kind=CHEAP_COLORIMETER, world=world, displays=displays, seed=seed + 3)
    )
    sources = [
        Source("Brook", "P1", "BP1-1180", world=world),
        Source("Rill", "R8", "RR8-0422", world=world, bits=(8,), formats=("sdr",), only_limited=True),
    ]
    return Bench(world, Directory(HOST, [*displays, *meters, *sources]), displays, meters, sources)


def _display(
    world: World,
    names: tuple[str, str, str],
    menu: Menu,
    build: Build,
    mode: str,
    seed: int,
    code: str,
    state: Path | None,
) -> Display:
    maker, model, serial = names
    kept = None if state is None else state / f"{maker}-{model}.json".lower()
    optics = Optics(world, menu, seed, build)
    return Display(
        maker, model, serial, world=world, menu=menu, optics=optics, pair_code=code, state=kept, start_mode=mode
    )
