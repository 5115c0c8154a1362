"""Styles in files: Styled Layer Descriptor 1.0.0 of the OGC (02-070), for grids by their values and shapes
by a column.
"""

from __future__ import annotations

from collections.abc import Iterable
from pathlib import Path
from xml.sax.saxutils import escape, quoteattr

from moss_step.formats.whole import printable, write_text

ENDING = ".sld"
_HEAD = (
    '<?xml version="1.0" encoding="UTF-8"?>\n'
    '<StyledLayerDescriptor version="1.0.0" xmlns="http://www.opengis.net/sld"'
    ' xmlns:ogc="http://www.opengis.net/ogc" xmlns:xlink="http://www.w3.org/1999/xlink"'
    ' xmlns:xsi="http://www.w3.org/2001/XMLSchema-instance">\n'
)


def grid_style(
    name: str, entries: Iterable[tuple[float, str, str]], by_values: bool, opacity: float = 1.0
) -> str:
    """The style of a grid: values with colour and label; of classes each for itself, of a ramp with all
    between.
    """
    kind = ' type="values"' if by_values else ' type="ramp"'
    rows = "".join(_entry(*entry) for entry in entries)
    body = (
        "          <RasterSymbolizer>\n"
        f"            <Opacity>{opacity:g}</Opacity>\n"
        f"            <ColorMap{kind}>\n{rows}            </ColorMap>\n"
        "          </RasterSymbolizer>\n"
    )
    return _whole(name, f"        <Rule>\n{body}        </Rule>\n")


def _entry(value: float, color: str, label: str) -> str:
    about = f'color={quoteattr(color)} quantity="{value:.12g}" label={quoteattr(_plain(label))}'
    return f"            <ColorMapEntry {about}/>\n"


def shape_style(name: str, kind: str, rules: Iterable[tuple[str, str, str]], width: float) -> str:
    """The style of shapes: rules of a title, a colour, and a filter that may be empty; ``width`` of lines
    in pixels.
    """
    said = "".join(
        f"        <Rule>\n          <Title>{escape(_plain(title))}</Title>\n{condition}"
        f"{_symbol(kind, color, width)}        </Rule>\n"
        for title, color, condition in rules
    )
    return _whole(name, said)


def between(column: str, low: float, high: float, with_low: bool) -> str:
    """The filter of a class of numbers: above the lower bound, up to and with the upper one."""
    above = "PropertyIsGreaterThanOrEqualTo" if with_low else "PropertyIsGreaterThan"
    return (
        f"          <ogc:Filter><ogc:And>{_compared(above, column, f'{low:.12g}')}"
        f"{_compared('PropertyIsLessThanOrEqualTo', column, f'{high:.12g}')}</ogc:And></ogc:Filter>\n"
    )


def equal(column: str, value: str) -> str:
    """The filter of one value."""
    return f"          <ogc:Filter>{_compared('PropertyIsEqualTo', column, value)}</ogc:Filter>\n"


def _compared(sign: str, column: str, value: str) -> str:
    name = f"<ogc:PropertyName>{escape(_plain(column))}</ogc:PropertyName>"
    return f"<ogc:{sign}>{name}<ogc:Literal>{escape(_plain(value))}</ogc:Literal></ogc:{sign}>"


def _symbol(kind: str, color: str, width: float) -> str:
    stroke = (
        f'<Stroke><CssParameter name="stroke">{color}</CssParameter>'
        f'<CssParameter name="stroke-width">{width:g}</CssParameter></Stroke>'
    )
    fill = f'<Fill><CssParameter name="fill">{color}</CssParameter></Fill>'
    body = {
        "points": f"<PointSymbolizer><Graphic><Mark><WellKnownName>circle</WellKnownName>{fill}</Mark>"
        f"<Size>{max(width, 6):g}</Size></Graphic></PointSymbolizer>",
        "lines": f"<LineSymbolizer>{stroke}</LineSymbolizer>",
        "areas": f"<PolygonSymbolizer>{fill}{stroke}</PolygonSymbolizer>",
    }[kind]
    return f"          {body}\n"


def _whole(name: str, rules: str) -> str:
    title = escape(_plain(name))
    return (
        f"{_HEAD}  <NamedLayer>\n    <Name>{title}</Name>\n    <UserStyle>\n      <Title>{title}</Title>\n"
        f"      <FeatureTypeStyle>\n{rules}      </FeatureTypeStyle>\n    </UserStyle>\n  </NamedLayer>\n"
        "</StyledLayerDescriptor>\n"
    )


def _plain(text: str) -> str:
    """A text as XML may hold it."""
    return "".join(c for c in printable(text) if c in "\t\n" or ord(c) >= 32)


def write_style(path: Path, text: str) -> None:
    """Write a style, whole or not at all."""
    write_text(path, text)
