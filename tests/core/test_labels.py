import pytest

from fenvik.core.labels import LONGEST, told_apart


def control(label, group="", role=None, name=""):
    return {"id": name or f"{group}/{label}/{role}", "label": label, "group": group, "role": role}


ENDS = [control("Red", end, f"white.{end.lower()}.red") for end in ("Gain", "Offset")]
POINTS = [control("Red", "Multi-point", f"white.at.{level}.red") for level in ("2.5", "50", "100")]


@pytest.mark.parametrize(
    ("controls", "called"),
    [
        ([control("R-Gain", "White"), control("R-Cut", "White")], ["R-Gain", "R-Cut"]),
        (ENDS, ["Red (Gain)", "Red (Offset)"]),
        (POINTS, ["Red (2.5 %)", "Red (50 %)", "Red (100 %)"]),
        (ENDS + POINTS, ["Red (gain)", "Red (offset)", "Red (2.5 %)", "Red (50 %)", "Red (100 %)"]),
        ([control("Hue", "Colours", f"colour.{c}.hue") for c in ("red", "cyan")], ["Hue (red)", "Hue (cyan)"]),
        ([control("Red", "", f"colour.{c}.mix.red") for c in ("red", "cyan")], ["Red (in red)", "Red (in cyan)"]),
        ([control("Level", "Sound"), control("level", "Picture")], ["Level (Sound)", "level (Picture)"]),
        ([control("X", "", None, "a"), control("X", "Y", None, "b")], ["X (a)", "X (b)"]),
        ([control("", "", "process.dynamic-contrast"), control(" ", "", None, "k7")], ["dynamic contrast", "k7"]),
        ([control("X", "G"), control("X", "H"), control("X (G)", "G")], ["X (G) (no. 1)", "X (H)", "X (G) (no. 3)"]),
    ],
)
def test_each_is_known_by_its_name_alone(controls, called):
    named = told_apart(controls)
    assert [c["label"] for c in named] == called
    assert told_apart(named) == named
    assert [c | {"label": ""} for c in named] == [c | {"label": ""} for c in controls]


def test_a_name_stays_as_long_as_one_may_be():
    long = [control("x" * 80, "g", None, f"{n:0120}") for n in range(200)]
    named = [c["label"] for c in told_apart(long)]
    assert len(set(named)) == 200
    assert max(len(name) for name in named) <= LONGEST
