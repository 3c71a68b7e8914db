"""The words of the trade, one sentence each: shown where a word stands, and all together on one page."""

from django.utils.text import slugify

WORDS = {
    "additivity": "How well white is the sum of red, green and blue: where it is more, a white sub-pixel helps; where it is less, something limits the light.",
    "as found, as left": "The passes before anything was turned and after everything was: between them lies the work.",
    "black level": "What signal becomes the deepest black; too low and dark steps are lost, too high and black is grey. Often called brightness.",
    "BT.1886": "The curve of SDR television on a dark display: gamma 2.4, lifted near black by what the display's own black takes away.",
    "BT.709, BT.2020, P3": "Sets of primaries: what red, green and blue mean for HD, for UHD containers, and for cinema.",
    "CCT": "Correlated colour temperature in kelvin: where on the line from reddish to bluish a white lies; it says nothing of green, which Duv does.",
    "CIEDE2000": "How different two colours look: about 1 is just seen side by side, 3 is seen by anyone.",
    "clipping": "Several signals that give the same light: detail that is in the picture is gone on the screen.",
    "colour management": "Controls of six colours each, by hue, saturation and luminance or by mixing red, green and blue.",
    "colour volume": "The share of a target's colours, at all luminances, that a display reaches.",
    "condition number": "How close the controls are to doing the same thing: with a high one, small errors of reading become large moves, so it is told.",
    "control": "One thing that can be set in a display's menu.",
    "correction": "A matrix that makes a quick meter agree with a reference meter on this kind of display.",
    "crossed": "Controls whose effects mix: turning one moves what another was turned for, so both are solved together.",
    "blind choice": "Whites under letters that are drawn anew each round: it counts once chance would make it one time in twenty at most.",
    "D65": "The white of television: x 0.3127, y 0.3290, daylight at about 6500 kelvin with a little green in it (Duv +0.0032).",
    "drift": "Light that changes by itself during a pass; whites in between tell it and take it out.",
    "Duv": "How far a white lies above (green) or below (magenta) the line of glowing bodies; D65 itself has +0.0032.",
    "dynamic metadata": "HDR that says frame by frame how bright it is, so that the display's own mapping can follow.",
    "effort": "How long and how carefully a meter reads: slower is steadier, most of all in the dark.",
    "four-colour method": "Making a correction from the chromaticities of red, green, blue and white; luminance follows white.",
    "gamma": "How quickly light grows with signal: 2.2 is brighter in the shadows, 2.4 is for dark rooms.",
    "gains and offsets": "Two-point white balance: gains move the bright end, offsets the dark end, and each a little of the other.",
    "hands-free": "Fenvik turns the controls itself over the device link, and stops, tells and puts back whenever something is not as it should be.",
    "handover": "What the client gets: the proof, the settings, and what they mean.",
    "HDR10": "A PQ signal with one description of its mastering for the whole film.",
    "HLG": "An HDR signal relative to the display's own peak, made for broadcasts.",
    "ΔE ITP": "The difference of two colours in HDR: 1 is just noticeable under the best conditions, 3 is a good display.",
    "lux": "How much light falls on a place: a dim living room has 5, a bright one 200.",
    "led by hand": "The whole job on a display without a link: Fenvik reads and works out, and lists what you turn with the remote.",
    "luminance, cd/m²": "How bright a surface is; 100 to 120 suits SDR at night. 3.426 cd/m² are one foot-lambert.",
    "menu map": "The controls of a model with their ranges and roles, kept for the next display of that model.",
    "near black": "The first few per cent above black, where noise, dimming and crushed steps live.",
    "mode's shift": "What a picture mode adds to white by itself, which no menu shows: read beside an ordinary mode, and taken out.",
    "nudge": "A proposed change: this control, by this many steps, with the error expected after it.",
    "offset to black": "What the darkest signal still gives as light; contrast is limited by it.",
    "pass": "One run through a list of patches.",
    "patch": "One colour that is shown and read.",
    "picture mode": "The display's own preset, such as Film; each keeps its own settings.",
    "PQ": "The curve of HDR10: each signal means one luminance, up to 10,000 cd/m², whatever the display.",
    "primaries": "The red, green and blue that a display mixes everything from.",
    "reading": "One result of the meter.",
    "roll-off": "How an HDR display goes from following the standard to its own peak, so that highlights keep some detail.",
    "saturation ladder": "One hue from grey to full: a colour that is right at full may be wrong at half, where skin is.",
    "settling": "The time between a new picture and a steady reading of it.",
    "settings sheet": "The values of all controls at a moment.",
    "stand-in": "A simulated meter, source or display that ships with Fenvik.",
    "surround": "What is shown around a patch so that the display's light limiter behaves as in a picture.",
    "target": "What a tuning aims at: primaries, white, curve, luminance, tolerance.",
    "tolerance": "The error below which nothing more is proposed.",
    "tone curve": "Light by signal, from black to white.",
    "tone mapping": "A display's own squeezing of HDR into what it can show; if it follows the picture, patches do not tell what films get.",
    "tuning": "One picture mode of one display for one signal and one purpose: the unit of work.",
    "two-point, ten-point, twenty-point": "White balance at two ends, or at ten or twenty levels between them.",
    "u′v′": "A map of colour without brightness on which equal distances look about equal.",
    "uniformity": "Whether corners and middle show the same light and colour.",
    "warm-up": "The first half hour in which light and white still move; measuring before its end is measuring twice.",
    "white balance": "Making grey grey from the darkest to the brightest level.",
    "white level": "What signal becomes the brightest white; too high and bright detail clips. Often called contrast.",
    "white sub-pixel": "A fourth light of some OLEDs that makes white brighter than red, green and blue together, and colours paler at full drive.",
    "window": "How much of the screen a patch fills: many displays are dimmer when more of it is lit.",
    "x, y": "The older map of colour without brightness: how meters and standards name a white or a primary.",
}  # fmt: skip

ORDERED = sorted(WORDS, key=str.casefold)


def anchor(word: str) -> str:
    """Return what a word is called in an address."""
    return slugify(word.replace("Δ", "d").replace("′", "")) or "word"


def having(words: str) -> list[tuple[str, str, str]]:
    """Return word, sentence and anchor of those that have all of some words in them."""
    lower = words.lower().split()
    return [(w, WORDS[w], anchor(w)) for w in ORDERED if all(part in f"{w} {WORDS[w]}".lower() for part in lower)]
