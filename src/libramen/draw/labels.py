"""Names beside points, so that none covers another or a point."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Any, Final

from matplotlib.font_manager import FontProperties

from libramen.draw.style import INK, plain

if TYPE_CHECKING:
    from matplotlib.axes import Axes

_LINE_PX: Final = 15.0
_SIZE_PT: Final = 9.5
_MARKER_PX: Final = 9.0
_FAR_PX: Final = 2 * _LINE_PX
"""A name that is further above or below its point has a line to it."""
_Box = tuple[float, float, float, float]


def place_labels(
    axes: Axes,
    points: Sequence[tuple[float, float]],
    names: Sequence[str],
    *,
    at_x: float | None = None,
    at_y: float | None = None,
) -> None:
    """Write each name beside its point: right of it, left, above or below, or further off with a line.

    Tries places in that order and takes the first that is free and within the panel, if possible one whose line
    crosses no name; the upright line at `at_x`, the level one at `at_y` and texts in the axes are not free. A name for
    which there is no place is left out. The axes must have their final limits.
    """
    figure = axes.get_figure(root=True)
    assert figure is not None
    figure.draw_without_rendering()  # positions are known only then
    pixels = [tuple(axes.transData.transform(point)) for point in points]
    taken = [(x - _MARKER_PX, y - _MARKER_PX, x + _MARKER_PX, y + _MARKER_PX) for x, y in pixels]
    panel = axes.get_window_extent()
    renderer: Any = figure.canvas.get_renderer()  # type: ignore[attr-defined]
    font = FontProperties(size=_SIZE_PT)
    line_x, line_y = axes.transData.transform((at_x or points[0][0], at_y or points[0][1])) if points else (0.0, 0.0)
    if at_x is not None:  # the line and the words along it
        taken.append((line_x - 2, panel.y0, line_x + 3, panel.y1))
    if at_y is not None:
        taken.append((panel.x0, line_y - 2, panel.x1, line_y + 3))
    taken += [text.get_window_extent(renderer).extents for text in axes.texts]
    named: list[_Box] = []
    for (x, y), point, label in sorted(
        zip(pixels, points, map(plain, names), strict=True), key=lambda entry: -entry[0][1]
    ):
        width = renderer.get_text_width_height_descent(label, font, False)[0] + 2
        places = []
        for dx, dy in _offsets(width):
            box = (x + dx, y + dy - _LINE_PX / 2, x + dx + width, y + dy + _LINE_PX / 2)
            inside = panel.x0 <= box[0] and box[2] <= panel.x1 and panel.y0 <= box[1] and box[3] <= panel.y1
            if inside and not any(_overlap(box, other) for other in taken):
                crosses = any(_overlap(step, name) for step in _line((x, y), box, dy) for name in named)
                places.append((crosses, dx, dy, box))
                if not crosses:
                    break
        if not places:
            continue  # better no name than two that nobody can read
        _, dx, dy, box = min(places, key=lambda place: place[0])
        taken.append(box)
        named.append(box)
        far = abs(dy) > _FAR_PX
        axes.annotate(
            label,
            point,
            # Offsets are in points of 1/72 inch, the boxes in pixels.
            (dx * 72 / figure.dpi, dy * 72 / figure.dpi),
            textcoords="offset points",
            va="center",
            fontsize=_SIZE_PT,
            color=INK,
            zorder=5,
            arrowprops={"arrowstyle": "-", "color": INK, "linewidth": 0.7} if far else None,
        )


def _line(start: tuple[float, float], box: _Box, dy: float) -> list[_Box]:
    """Where the line from a point to its name goes, as small boxes; none: the name is beside the point."""
    if abs(dy) <= _FAR_PX:
        return []
    end = box[0] if box[0] > start[0] else box[2], (box[1] + box[3]) / 2
    steps = [(start[0] + (end[0] - start[0]) * k / 12, start[1] + (end[1] - start[1]) * k / 12) for k in range(12)]
    return [(x - 1, y - 1, x + 1, y + 1) for x, y in steps]


def _offsets(width: float) -> list[tuple[float, float]]:
    """Places to try, as offsets of the left middle of the text from the point [pixels]."""
    near = [(13.0, 0.0), (-13.0 - width, 0.0), (-width / 2, 18.0), (-width / 2, -18.0)]
    far = [(side, sign * step * 16.0) for step in range(1, 17) for side in (13.0, -13.0 - width) for sign in (1, -1)]
    return near + far


def _overlap(a: _Box, b: _Box) -> bool:
    return a[0] < b[2] and b[0] < a[2] and a[1] < b[3] and b[1] < a[3]
