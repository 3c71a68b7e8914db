"""The pictures of light: roll-off of PQ; contrast, loading, uniformity and near black; what is wrong."""

import numpy as np
from django.utils.html import format_html
from django.utils.safestring import SafeString, mark_safe

from fenvik.charts import loading, rolloff, uniformity
from fenvik.core.analysis.analysis import Analysis
from fenvik.core.colour import curves
from fenvik.core.measure.uncertainty import TWO_SIDED_95
from fenvik.web.kit.templatetags.fenvik import signed, significant
from fenvik.web.results import wrong
from fenvik.web.results.parts import Pair, Picture, Table, grey_rows

NOTHING_OF_IT = SafeString(
    "Nothing of it has been read: choose a window ladder, a checkerboard or a uniformity grid among the lists."
)
LEAKS = 1.1  # of the middle’s light: more at another place is said too


def _evenness(darkest: float, lightest: float) -> str:
    """Return what there is to say of the darkest and the lightest place, as shares of the middle's light."""
    leaks = f", the lightest {100 * lightest:.0f} %" if lightest > LEAKS else ""
    return f"the darkest place has {100 * darkest:.0f} % of the middle’s light{leaks}"


def rolloff_picture(pair: Pair) -> Picture:
    """Tone of an absolute target: what the signal asks for, and what is given."""
    base = pair.said
    assert base is not None
    found, left = grey_rows(pair.found), grey_rows(pair.left)
    greys, rows = [], []
    for level in sorted({*found, *left}):
        now, was = left.get(level), found.get(level)
        shown, at = (pair.left, now) if now is not None else (pair.found, was)
        assert shown is not None
        assert at is not None
        asked = float(curves.pq(shown.readings.fraction[at, 0]))
        wanted, measured = float(shown.target_xyz[at, 1]), float(shown.readings.xyz[at, 1])
        greys.append(
            rolloff.Grey(
                level, asked, wanted, None if now is None else measured,
                None if was is None or pair.found is None else float(pair.found.readings.xyz[was, 1]),
            )
        )  # fmt: skip
        off = 100.0 * (measured / wanted - 1.0) if wanted > 0 else float("nan")
        told = ("not read", "–") if pair.left is not None and now is None else (significant(measured), signed(off))
        rows.append((f"{level:g} %", significant(asked), significant(wanted), *told))
    peak = float(base.white[1])
    answer = format_html("Its peak is <b>{} cd/m²</b>", significant(peak)) + _how_it_comes_there(base, peak)
    return Picture(
        "tone", "Does light follow the signal?", answer + SafeString("."),
        mark_safe(rolloff.draw(greys, peak=peak, title="Light that is asked for and given")),
        Table(("level", "asked for", "wanted", "cd/m²", "off, %"), list(reversed(rows))), not greys,
    )  # fmt: skip


def _how_it_comes_there(analysis: Analysis, peak: float) -> SafeString:
    """Say how greys up to the peak, in cd/m², follow the signal: beyond it every display gives less."""
    asked, given = curves.pq(analysis.readings.fraction[analysis.lit_grey, 0]), analysis.readings.xyz[analysis.lit_grey, 1]
    below, starts = asked <= peak, rolls_off_from(analysis)
    if not below.any():
        return SafeString("; no grey below that has been read yet")
    if starts is None or starts > peak:
        off = f"{100.0 * float(np.abs(given[below] / asked[below] - 1.0).max()):.0f} %"
        most = significant(float(asked[below].max()))
        return format_html("; up to {} cd/m² it gives what is asked for within <b>{}</b>", most, off)
    return format_html("; it gives less than is asked for from <b>{} cd/m²</b> on", significant(starts))


def rolls_off_from(analysis: Analysis) -> float | None:
    """Return the luminance that a PQ signal asks for from which on a display gives at least 5 % less; None where it follows."""
    lit = np.flatnonzero(analysis.lit_grey)
    asked = curves.pq(analysis.readings.fraction[lit, 0])
    given, std = analysis.readings.xyz[lit, 1], np.sqrt(analysis.readings.covariance[lit, 1, 1])
    order = np.argsort(asked)
    start = None
    for i in order[::-1]:
        if given[i] + 2 * std[i] < 0.95 * asked[i]:
            start = float(asked[i])
        else:
            break
    return start


def light_picture(pair: Pair) -> Picture:
    """Return contrast, loading, uniformity, drift, gamut and near black."""
    now, was = pair.left_special or pair.found_special, pair.found_special if pair.left_special else None
    parts: list[str] = []
    rows: list[tuple[str, ...]] = []
    said: list[str] = []
    base = pair.said
    if base is not None and base.contrast is not None:
        shown = f"{'> ' if base.contrast[1] else ''}{significant(base.contrast[0])} : 1"
        said.append(f"Contrast {shown}")
        rows.append(("contrast, white over black", shown))
    if now is not None and now.board is not None:
        white, black, contrast, bound = now.board
        shown = f"{'> ' if bound else ''}{significant(contrast)} : 1"
        said.append(f"{shown} within one picture")
        rows.append(("checkerboard, a black field beside white ones", shown))
        dark = "too dark" if black is None else significant(black)
        rows.append(("its white and black, cd/m²", f"{significant(white)} and {dark}"))
    if now is not None and now.loading is not None:
        known = {} if was is None or was.loading is None else dict(zip(was.loading.area, was.loading.luminance, strict=True))
        steps = [
            loading.Step(float(a), float(y), float(s), known.get(a))
            for a, y, s in zip(now.loading.area, now.loading.luminance, now.loading.std, strict=True)
        ]
        if pair.left_special is None:  # as found is hollow
            steps = [loading.Step(s.area, None, 0.0, s.luminance) for s in steps]
        parts.append(
            loading.draw(steps, falls_at=now.loading.falls_at, window=pair.window, title="Luminance over the lit area")
        )
        both = zip(now.loading.area, now.loading.luminance, strict=True)
        rows += [(f"{a:g} % window", f"{significant(float(y))} cd/m²") for a, y in both]
        falls, lost = now.loading.falls_at, 100 * now.loading.lost
        said.append(
            "light holds over the whole screen"
            if falls is None
            else f"5 % are lost from {falls:.0f} % of the area on, {lost:.0f} % over the whole screen"
        )
    if now is not None and now.uniformity is not None:
        u = now.uniformity
        each = list(zip(u.places, u.share, u.duv, strict=True))
        places = [uniformity.Place(float(x), float(y), float(s), float(d)) for (x, y), s, d in each]
        parts.append(uniformity.draw(places, title="Uniformity"))
        named = zip(now.places, u.share, u.duv, strict=True)
        rows += [(name, f"{100 * s:.1f} % of the middle, Δu′v′ {d:.4f}") for name, s, d in named]
        said.append(_evenness(float(u.share[u.darkest]), float(u.share[u.lightest])))
    if now is not None and now.wander is not None:
        minutes, percent, apart = now.wander
        rows.append(("white left alone", f"{percent:.2f} % and Δu′v′ {apart:.4f} in {minutes:.1f} min"))
        said.append(f"white wandered by {percent:.1f} % in {minutes:.0f} min")
    if now is not None and now.drift is not None:
        rows.append(("drift of white over the pass", f"{100 * now.drift:.2f} %"))
        said.append(f"white drifted by {100 * now.drift:.1f} % during the pass")
    if now is not None:
        rows += [(f"gamut coverage, {name}", f"{100 * share:.1f} %") for name, share in now.gamut]
        if now.volume is not None:
            rows.append(("colour volume up to its own peak", f"{100 * now.volume:.0f} % within 3 ΔE ITP"))
        if now.additivity is not None:
            rows.append(("red, green and blue beside white", f"{100 * now.additivity:.1f} % apart"))
    rows += near_black_rows(base)
    text = "; ".join(said)
    return Picture(
        "light", "What does its light do?",
        format_html("{}.", text[:1].upper() + text[1:]) if said else NOTHING_OF_IT,
        mark_safe("".join(parts)), Table(("what", "measured"), rows), not rows,
    )  # fmt: skip


def near_black_rows(analysis: Analysis | None) -> list[tuple[str, ...]]:
    """Return the greys below 10 %: what they are off by, or that the meter cannot tell."""
    if analysis is None:
        return []
    level = analysis.readings.fraction[:, 0]
    made: list[tuple[str, ...]] = []
    for i in np.flatnonzero(analysis.grey & (level > 0.001) & (level < 0.095)):
        y, wanted = float(analysis.readings.xyz[i, 1]), float(analysis.target_xyz[i, 1])
        # The target's own doubt is in it: with BT.1886 it stands on the black that was read.
        noise = TWO_SIDED_95 * float(analysis.apart_std[i])
        if analysis.readings.dark is not None and analysis.readings.dark[i]:
            floor = significant(analysis.readings.floor)
            told = f"too dark to read, less than {floor} cd/m², where {significant(wanted)} are wanted"
        elif abs(y - wanted) <= noise:
            told = f"{significant(y)} cd/m² ± {significant(noise, 2)}, not resolved from the {significant(wanted)} wanted"
        else:
            told = f"{significant(y)} cd/m² ± {significant(noise, 2)} where {significant(wanted)} are wanted"
        made.append((f"{100 * level[i]:.0f} % of signal", told))
    return made


def wrong_picture(pair: Pair) -> Picture:
    """Return what is wrong, the worst first."""
    now = pair.left_special or pair.found_special
    question = "What is wrong, and what can be done?"
    nothing = Table((), [])
    if now is None or pair.said is None:
        return Picture("wrong", question, SafeString("Nothing has been read yet."), SafeString(""), nothing, True)
    if not now.faults:
        said = SafeString("Nothing that these readings can tell.")
        return Picture("wrong", question, said, SafeString(""), nothing, True)
    rows: list[tuple[str, ...]] = [(str(i + 1), *wrong.sentence(f, pair.unit)) for i, f in enumerate(now.faults)]
    return Picture(
        "wrong", question, SafeString("What hurts most comes first."), wrong.listed(now.faults, pair.unit),
        Table(("", "what is wrong", "what to do"), rows, in_sentences=True),
    )  # fmt: skip
