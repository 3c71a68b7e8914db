"""What must be right before a meter is worth using: checks that adapt to technology, signal and the menu."""

from collections.abc import Collection
from dataclasses import dataclass

HDR = ("hdr10", "hlg", "dynamic")
PROJECTOR = ("projector",)


@dataclass(frozen=True)
class Check:
    """One thing to look at. ``role``: the control that it is about, whose value tells the state; else a person does.

    ``technologies`` and ``signals`` limit it; empty means all. ``needs_role``: only where the menu has the control.
    """

    id: str
    name: str
    why: str
    wanted: str
    role: str = ""
    technologies: tuple[str, ...] = ()
    signals: tuple[str, ...] = ()
    needs_role: bool = False


CHECKS = (
    Check("mode", "Picture mode", "Each mode keeps its own settings: what is set in another one is lost work.", "the mode of this tuning"),
    Check("signal", "Signal", "Most displays choose other modes by themselves while HDR plays; an SDR mode cannot be set then.", "the signal of this tuning"),
    Check("energy", "Energy saving", "It moves the light with the picture, so every reading depends on the patch before it.", "off", "process.energy"),
    Check("ambient", "Ambient sensor", "The room, or the meter’s own shadow, would change the light during a pass.", "off", "process.ambient"),
    Check("dynamic-contrast", "Dynamic contrast", "It bends the curve with the mean of the picture: patches then measure the processing.", "off", "process.dynamic-contrast"),
    Check("black-stretch", "Black stretch", "It eats the first steps above black.", "off", "process.black-stretch"),
    Check("blue-light", "Blue-light reduction", "It moves white towards red, in some displays only in the evening.", "off", "process.blue-light"),
    Check("dimming", "Local dimming", "Zones follow the patch, so black and small windows read otherwise than in a film. Where it is to stay on, measure with it on.", "as it will be used; off while the balance is set", "process.dimming", technologies=("lcd", "other")),
    Check("noise", "Noise reduction", "It takes fine detail for noise and smears it, and on some displays shifts dark levels.", "off for good sources", "process.noise"),
    Check("motion", "Motion", "Made-up pictures and dark pictures in between change light and flicker, which some meters mistake for level.", "off, or as the client likes it", "process.motion"),
    Check("sharpness", "Sharpness", "Added edges are not in the picture; its neutral value is seldom zero.", "where borders are just gone", "process.sharpness"),
    Check("overscan", "Overscan", "It cuts the edges off and smears every pixel by scaling.", "off, each pixel shown", "process.overscan"),
    Check("tone-mapping", "Tone mapping", "While it follows the picture, no patch shows what the next scene will get.", "still, or off", "process.tone-mapping", signals=HDR),
    Check("inputs", "Settings by input", "Many displays keep settings for each input and app: what is set on one is not there on the others.", "known, and noted what has to be copied"),
    Check("light-source", "Light source", "Lamp or laser power sets light, heat and noise; a lamp falls by a third in its first hundred hours.", "as the screen needs it, with hours to spare", technologies=PROJECTOR),
    Check("iris", "Iris", "A moving iris changes the light with the picture.", "still", "process.iris", technologies=PROJECTOR),
    Check("lens", "Lens and zoom", "Shift and zoom cost light and sharpness: the middle of their range is the best of the lens.", "picture fills the screen without the corners of shift", technologies=PROJECTOR),
    Check("geometry", "Geometry", "Keystone correction scales the picture and smears pixels; moving the projector does not.", "keystone off, edges parallel to the screen", technologies=PROJECTOR),
    Check("focus", "Focus", "Soft spokes mix neighbouring pixels, which a meter does not see but everybody else does.", "sharp in the middle and the corners", technologies=PROJECTOR),
    Check("convergence", "Convergence", "Colours that miss each other put borders on every edge.", "white lines without borders", technologies=PROJECTOR),
    Check("refocus", "Focus again when warm", "The lens moves as it warms: what was sharp cold is soft after half an hour.", "looked at again after the warm-up", technologies=PROJECTOR),
    Check("screen", "Screen", "Gain and texture set light and the angle; dust and light from beside lift black.", "clean, its gain noted, room dark", technologies=PROJECTOR),
)  # fmt: skip


def checks_for(technology: str, signal: str, roles: Collection[str]) -> list[Check]:
    """Return the checks that a display of this technology wants for this signal; those without a control come where a person can tell.

    ``roles``: those that the menu map has. A check with a control that this menu lacks is left out: there is nothing to set.
    """
    return [
        check
        for check in CHECKS
        if (not check.technologies or technology in check.technologies)
        and (not check.signals or signal in check.signals)
        and (not check.role or check.role in roles)
    ]


def extra_processing(roles: Collection[str]) -> list[str]:
    """Return the processing of a menu for which no check is written, so that nothing that changes the light is overlooked."""
    known = {check.role for check in CHECKS if check.role}
    return sorted(role for role in roles if role.startswith("process.") and role not in known)


def signal_clash(tuning_signal: str, playing: str | None) -> str:
    """Return a sentence where the signal that is playing does not fit the tuning, or an empty text."""
    names = {"sdr": "SDR", "hdr10": "HDR10", "hlg": "HLG", "dynamic": "dynamic metadata"}
    if not playing or playing == tuning_signal:
        return ""
    if tuning_signal == "dynamic" and playing == "hdr10":
        return "The display shows HDR10 and not dynamic metadata: the source or its cable has fallen back."
    shown, wanted = names.get(playing, playing), names.get(tuning_signal, tuning_signal)
    return (
        f"The display shows {shown} now, and this tuning is for {wanted}: what is changed in its menu goes into another mode. "
        f"Play {wanted} first."
    )
