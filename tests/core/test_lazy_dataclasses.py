"""A class whose methods are made when they are called behaves as the standard library's."""

import dataclasses

import pytest

from escalera import lazy_dataclasses


class Once:
    __slots__ = ("_hash",)

    def __hash__(self):
        return 7


def made_by(dataclass):
    """The same classes by either decorator, each with arguments that fit, and what is told of them."""

    @dataclass(frozen=True, slots=True)
    class Point:
        x: int
        y: int = 2

    @dataclass(frozen=True)
    class Above(Point):
        names: dict = dataclasses.field(default_factory=dict, compare=False, repr=False)

    @dataclass(frozen=True, eq=False)
    class Itself:
        x: int

    @dataclass
    class Open:
        x: int
        seen: list = dataclasses.field(default_factory=list)

        def __post_init__(self):
            self.seen.append(self.x)

    @dataclass(frozen=True, slots=True)
    class Own(Once):
        x: int
        __hash__ = Once.__hash__

        def __repr__(self):
            return "own"

    return Point, Above, Itself, Open, Own


PAIRS = list(zip(made_by(dataclasses.dataclass), made_by(lazy_dataclasses.dataclass), strict=True))


def told(act):
    """What comes of an act: its value, or the kind of error and its words."""
    try:
        return act()
    except (TypeError, AttributeError) as error:
        return type(error).__name__, str(error).replace("made_by.<locals>.", "")


@pytest.mark.parametrize("kind", range(len(PAIRS)), ids=[pair[0].__name__ for pair in PAIRS])
def test_a_lazily_made_class_is_as_the_standard_library_makes_it(kind):
    def seen(cls):
        one, same, other = cls(1), cls(1), cls(3)
        return [
            told(lambda: cls()),
            told(lambda: cls(1, 2, 3, 4)),
            repr(one),
            (one == same, one == other, one == 1, one != same),
            told(lambda: hash(one) == hash(same)),
            told(lambda: hash(one) == hash(other)),
            told(lambda: setattr(one, "x", 5)),
            told(lambda: delattr(one, "x")),
            told(lambda: dataclasses.replace(other, x=9).x),
            [(f.name, str(f.type), f.compare) for f in dataclasses.fields(cls)],
            dataclasses.asdict(other),
            cls.__match_args__,
            one is not cls(1),
        ]

    library, lazy = PAIRS[kind]
    assert seen(lazy) == seen(library)


def test_a_method_is_made_once_and_takes_its_place():
    @lazy_dataclasses.dataclass(frozen=True)
    class Point:
        x: int

    first = Point.__init__
    assert (
        Point(1) == Point(1) and Point.__init__ is not first and Point.__init__.__qualname__.endswith("Point.__init__")
    )
    made = Point.__init__
    assert first(Point.__new__(Point), 2) is None and Point.__init__ is made
