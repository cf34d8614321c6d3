"""Where the words of a point stand in the Spread."""

from dataclasses import replace

from nicelevel.report.scatter import Point, _labelled

AMID = Point(1, "A title", 600.0, 300.0, "", "one-sided", 0.0, 0.0)


def _other(key, x, y):
    return replace(AMID, key=key, title="", reason="", x=x, y=y)


def _label_of(*others):
    return next((each.label_x, each.label_y) for each in _labelled([AMID, *others]) if each.key == AMID.key)


def test_words_stand_to_the_right_where_nothing_is_there():
    label_x, _ = _label_of(_other(2, 300.0, 100.0))
    assert label_x > AMID.x


def test_words_cover_the_corner_of_a_point_rather_than_all_of_it():
    """Something is on every side: least on the left."""
    right, above, below = _other(2, 640.0, 305.0), _other(3, 600.0, 272.0), _other(4, 600.0, 325.0)
    corner = _other(5, 560.0, 322.0)
    label_x, _ = _label_of(right, above, below, corner)
    assert label_x < AMID.x - 14
