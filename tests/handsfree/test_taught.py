"""What a first display of a model teaches the second one, and what is done where it does not hold."""

from dataclasses import replace

import numpy as np
import pytest

from bench.handsfree import TARGET
from bench.taught import Sample, adjusted
from fenvik.core.controls import of_greys
from fenvik.core.models.grey import Seen
from fenvik.core.models.greyfit import fit
from fenvik.core.models.taught import Taught

SEEDS = (1001, 1008)


@pytest.fixture(scope="module")
def first():
    """By seed, what a first sample of a model with points has taught."""
    return {seed: Taught.from_json(adjusted(Sample(seed, 1, 0.06)).balance.teaches().as_json()) for seed in SEEDS}


def test_a_second_sample_takes_fewer_turns_and_ends_no_worse(first):
    left, moves = {}, {}
    for told in (False, True):
        samples = [Sample(seed, 2, 0.06) for seed in SEEDS]
        jobs = [adjusted(sample, first[seed] if told else None) for sample, seed in zip(samples, SEEDS, strict=True)]
        left[told] = np.mean([sample.truth(TARGET)[0] for sample in samples])
        moves[told] = sum(sample.moves for sample in samples)
        assert all((job.balance.taught is not None) == told for job in jobs)
    assert left[True] < left[False] + 0.04
    assert moves[True] < moves[False]


def test_what_does_not_hold_for_this_one_is_said_and_left(first):
    seed = SEEDS[0]
    wrong = replace(first[seed], effects={name: -effect for name, effect in first[seed].effects.items()})
    sample = Sample(seed, 2, 0.06)
    job = adjusted(sample, wrong)
    assert job.balance.taught is None
    assert sum("had taught of these controls does not hold for this one" in note for note in job.desk.notes) == 1
    assert sample.truth(TARGET)[0] < 0.5


def test_before_anything_is_turned_what_was_told_is_expected_and_the_rest_by_its_range(first):
    sample = Sample(SEEDS[0], 2, 0.06)
    knobs = of_greys(sample.controls, {c["id"]: c["value"] for c in sample.controls}, ("gain", "offset", "point"))
    levels = np.linspace(0.1, 1.0, 10)
    seen = [Seen(float(v), np.full(3, v), np.zeros(len(knobs))) for v in levels]
    taught = first[SEEDS[0]]
    less = replace(taught, effects={name: e for name, e in taught.effects.items() if not name.startswith("offset")})
    model, alone = fit(knobs, seen, taught=less), fit(knobs, seen)
    assert (model.width, model.shape) == (taught.width, taught.shape)
    for k, knob in enumerate(knobs):
        if knob.kind == "gain" and knob.id in taught.effects:
            np.testing.assert_allclose(model.gain[:, knob.channel], taught.effects[knob.id], atol=1e-6)
        elif knob.kind == "offset":
            np.testing.assert_allclose(model.offset[:, knob.channel], alone.offset[:, knob.channel], atol=1e-6)
        elif knob.id in taught.effects:
            assert model.step[k] == pytest.approx(taught.effects[knob.id][knob.channel], rel=0.02)
        assert model.doubt[k] <= alone.doubt[k] + 1e-9


def test_too_few_turns_teach_nothing_and_a_fault_in_what_was_kept_is_an_error(first):
    model = adjusted(Sample(SEEDS[0], 2, 0.06)).balance.model
    assert Taught.of(model, [i < 3 for i in range(len(model.knobs))]) is None
    told = first[SEEDS[0]].as_json()
    with pytest.raises(ValueError, match="three lights"):
        Taught.from_json(told | {"effects": {name: effect[:2] for name, effect in told["effects"].items()}})
