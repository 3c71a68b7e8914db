"""Two versions of the rules for the greys, compared display by display."""

import json

import pytest

from bench import greys


def left(mean, worst):
    return {"mean": mean, "worst": worst}


def test_a_display_is_scored_by_what_it_misses_more():
    assert greys.score(left(0.5, 0.9)) == 0.0
    assert greys.score(left(0.2, 1.0)) == 0.0
    assert greys.score(left(0.6, 1.1)) == pytest.approx(0.182, abs=0.001)
    assert greys.score(left(0.3, 0.7)) < 0


def test_the_same_displays_are_compared_and_others_left_out(capsys):
    before = {"1": left(0.3, 0.8), "2": left(0.3, 1.2), "3": left(0.1, 0.1)}
    now = {"1": left(0.3, 0.8 * 0.98), "2": left(0.3, 1.2 * 0.98**3), "4": left(9.0, 9.0)}
    greys.compare(before, now)
    assert "2 displays in common: -4.0 ± 1.4 % of error; missed by 1 before, 1 now" in capsys.readouterr().out


def test_what_was_kept_is_compared_with(tmp_path, monkeypatch, capsys):
    kept = tmp_path / "kept.json"
    for words in (["--keep", str(kept)], ["--against", str(kept)]):
        monkeypatch.setattr("sys.argv", ["greys", "2001", "--count", "3", *words])
        greys.main()
    told = json.loads(kept.read_text())
    assert 2001 <= int(min(told)) <= int(max(told)) <= 2003
    assert f"{len(told)} displays in common: +0.0 ± 0.0 %" in capsys.readouterr().out
