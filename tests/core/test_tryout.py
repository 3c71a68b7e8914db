import pytest

from fenvik.core.measure.tryout import judge
from fenvik.core.measure.uncertainty import Repeatability

METER = Repeatability.of([(0.01, 0.05, 0.01, 0.01), (100.0, 0.001, 0.0002, 0.0002)])


def xyz(luminance):
    return 0.95 * luminance, luminance, 1.09 * luminance


@pytest.mark.parametrize(
    ("white", "black", "again", "state", "says"),
    [
        (xyz(118), xyz(0.04), xyz(118.1), "right", "118 cd/m² and black 0.04"),
        (xyz(118), None, xyz(118.1), "right", "black too dark to read"),
        (xyz(118), xyz(0.04), None, "right", "sees what"),
        (None, None, None, "wrong", "too dark"),
        ((0.0, 0.0, 0.0), xyz(0), xyz(0), "wrong", "no light at all"),
        (xyz(42), xyz(42.1), xyz(42), "wrong", "does not change"),
        (xyz(118), xyz(0.04), xyz(112), "doubtful", "5.1 % less"),
        (xyz(118), xyz(0.04), xyz(125), "doubtful", "5.9 % more"),
        (xyz(1.4), xyz(0.001), xyz(1.4), "doubtful", "only 1.4"),
        (xyz(118), xyz(3), xyz(118), "doubtful", "39 to one"),
    ],
)
def test_the_chain_is_judged_in_words(white, black, again, state, says):
    tried = judge(white, black, again, METER)
    assert tried.state == state
    assert says in tried.says
    assert bool(tried.todo) == (state != "right")
