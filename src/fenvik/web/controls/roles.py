"""Roles of controls in words: said, read, and guessed from what a menu calls a control."""

import re

LIGHTS = ("red", "green", "blue")
COLOURS = ("red", "green", "blue", "cyan", "magenta", "yellow")
ATTRIBUTES = ("hue", "saturation", "luminance")
PLAIN = {
    "light": "panel or lamp light", "white-level": "white level", "black-level": "black level", "gamma": "gamma",
    "saturation": "saturation of all colours", "tint": "tint of all colours", "gamut": "colour space",
    "white-preset": "colour temperature", "lens.focus": "focus", "convergence.red": "convergence of red",
    "convergence.blue": "convergence of blue",
}  # fmt: skip
PROCESSES = {
    "energy": "energy saving", "ambient": "room light sensor", "dynamic-contrast": "dynamic contrast",
    "black-stretch": "black stretch", "noise": "noise reduction", "motion": "motion smoothing", "sharpness": "sharpness",
    "overscan": "overscan", "dimming": "dimming by zones", "tone-mapping": "tone mapping by the picture",
    "blue-light": "blue light reduction", "iris": "dynamic iris", "uniformity": "uniformity correction",
}  # fmt: skip
POINT = re.compile(r"(white|gamma)\.at\.(\d+(?:\.\d+)?)(?:\.(red|green|blue))?$")
PROCESS = re.compile(r"process\.([a-z][a-z-]{1,40})$")

WORDS: dict[str, str] = {
    **PLAIN,
    **{f"white.{end}.{light}": f"{end} of {light}" for end in ("gain", "offset") for light in LIGHTS},
    **{f"colour.{colour}.{what}": f"{what} of {colour}" for colour in COLOURS for what in ATTRIBUTES},
    **{f"colour.{colour}.mix.{light}": f"{light} within {colour}" for colour in COLOURS for light in LIGHTS},
    **{f"process.{name}": words for name, words in PROCESSES.items()},
}
ROLES = tuple(WORDS)
_ROLES = {words: role for role, words in WORDS.items()}

# What menus call things, the more particular first; group and name are looked at together, in lower case.
_NAMES = (
    ("process.energy", r"energy|eco\b|power sav"),
    ("process.ambient", r"ambient|room sense|light sensor|auto(?:matic)? brightness"),
    ("process.dynamic-contrast", r"dynamic contrast|contrast enhanc|adaptive contrast"),
    ("process.black-stretch", r"black stretch|black enhanc|shadow enhanc"),
    ("process.tone-mapping", r"tone map"),
    ("process.noise", r"noise|artefact|artifact|smooth gradation"),
    ("process.motion", r"motion|frame interpol|judder|blur reduc"),
    ("process.sharpness", r"sharp|edge|super resolution|clarity"),
    ("process.overscan", r"overscan|just scan|screen fit"),
    ("process.dimming", r"dimming|local contrast|zones"),
    ("process.blue-light", r"blue light|eye comfort|night mode"),
    ("process.iris", r"\biris\b"),
    ("process.uniformity", r"uniformity"),
    ("lens.focus", r"\bfocus\b"),
    ("white-preset", r"colou?r temp|colou?r tone|white preset"),
    ("gamut", r"colou?r space|gamut|colou?r range"),
    ("gamma", r"gamma|tone curve"),
    (
        "light",
        r"back ?light|panel light|\blaser\b|\blamp\b|\bled\b|^light\b|light (?:level|output|power|source)|lumin\w+ level",
    ),
    ("black-level", r"black level|brightness"),
    ("white-level", r"white level|contrast"),
    ("saturation", r"saturation|colou?r(?: depth| level)?$|^colou?r\b"),
    ("tint", r"\btint\b|\bhue\b"),
)


def is_role(role: str) -> bool:
    """Whether a text is a role of the device link, a point of a balance, or processing of another name."""
    point = POINT.match(role)
    if point:
        return 0 < float(point[2]) <= 100 and (point[1] == "gamma") == (point[3] is None)
    return role in WORDS or bool(PROCESS.match(role))


def words_of(role: str | None) -> str:
    """Return a role in words; nothing for none."""
    if not role:
        return ""
    point, process = POINT.match(role), PROCESS.match(role)
    if point:
        return f"{point[3] or 'luminance'} at {point[2]} %"
    return WORDS.get(role) or (f"processing: {process[1].replace('-', ' ')}" if process else role)


def role_of(text: str) -> str | None:
    """Return the role that a text means, in words or by its own name; None where it means none."""
    told = " ".join(text.strip().lower().split())
    if told in _ROLES or is_role(told):
        return _ROLES.get(told, told)
    point = re.fullmatch(r"(red|green|blue|luminance) at (\d+(?:[.,]\d+)?) ?%?", told)
    if point:
        level = f"{float(point[2].replace(',', '.')):g}"
        role = f"gamma.at.{level}" if point[1] == "luminance" else f"white.at.{level}.{point[1]}"
        return role if is_role(role) else None
    process = re.fullmatch(r"processing:? ([a-z][a-z -]{1,39})", told)
    return f"process.{process[1].strip().replace(' ', '-')}" if process else None


def _light(text: str) -> str | None:
    """Return which light a name begins or ends with: red, R, R-gain."""
    found = (
        re.search(r"\b(red|green|blue)\b", text)
        or re.match(r"([rgb])\b|([rgb])[ -]", text)
        or re.search(r"[ -]([rgb])$", text)
    )
    if not found:
        return None
    letter = next(part for part in found.groups() if part)
    return {"r": "red", "g": "green", "b": "blue"}.get(letter, letter)


def guess(label: str, group: str) -> str | None:
    """Return the role that a control's name and group speak for; None where nothing does."""
    name, both = label.lower().strip(), f"{group} {label}".lower()
    light = _light(name)
    level = re.search(r"(\d+(?:[.,]\d+)?) ?%", name) or re.search(r"(\d+(?:[.,]\d+)?) ?%", group.lower())
    if level and 0 < float(level[1].replace(",", ".")) <= 100:
        at = f"{float(level[1].replace(',', '.')):g}"
        if light:
            return f"white.at.{at}.{light}"
        if re.search(r"lumin|gamma|light|bright", name):
            return f"gamma.at.{at}"
    colour = next((c for c in COLOURS if re.search(rf"\b{c}\b", both)), None)
    what = next(
        (
            a
            for a, p in zip(ATTRIBUTES, (r"\bhue\b|\btint\b", r"saturation", r"lumin|bright"), strict=True)
            if re.search(p, name)
        ),
        None,
    )
    if light and re.search(r"gain|drive|highlight|\bhigh\b", both):
        return f"white.gain.{light}"
    if light and re.search(r"offset|bias|\bcut|shadow|\blow\b", both):
        return f"white.offset.{light}"
    if light and "convergence" in both:
        return f"convergence.{light}" if light != "green" else None
    if colour and what:
        return f"colour.{colour}.{what}"
    owner = next((c for c in COLOURS if re.search(rf"\b{c}\b", group.lower()) or name.startswith(f"{c}:")), None)
    if owner and light:
        last = re.findall(r"\b(red|green|blue)\b", name)
        return f"colour.{owner}.mix.{last[-1]}" if last else None
    return next((role for role, pattern in _NAMES if re.search(pattern, name)), None)
