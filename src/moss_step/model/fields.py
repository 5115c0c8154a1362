"""What the columns of results mean, and how they are named: small letters, digits and underscores."""

from __future__ import annotations

import re

FIELDS: dict[str, str] = {
    "after": "Class after the change.",
    "angle": "Angle of the horizon above the level, in the direction `bearing`.",
    "area_above_m2": "Ground at or above the height, as plan area.",
    "area_ha": "Plan area.",
    "area_m2": "Plan area; on longitude and latitude that on the ellipsoid.",
    "area_share": "Share of the ground at or above the height, 0 to 1.",
    "basin": "Number of the basin.",
    "bearing": "Direction from the observer, clockwise from the north of the grid.",
    "before": "Class before the change.",
    "cells": "Cells that belong to it.",
    "class": "Code of the class in the grid.",
    "classification": "Class of the point (ASPRS, LAS 1.4 R15).",
    "closed": "Whether the line ends where it begins.",
    "color": "Colour of the class, as red, green and blue.",
    "count": "Cells that belong to it.",
    "crown_m": "Diameter of a circle as large as the crown.",
    "crown_m2": "Ground that the crown covers.",
    "density": "Points a square metre.",
    "depression": "For a contour, whether the ground inside lies lower; else the number of the depression.",
    "depth": "Greatest depth below the level at which it spills.",
    "distance": "Distance from the start of the line, or from the observer, along the ground's plan.",
    "drainage_density": "Length of streams for each square kilometre.",
    "drop_m": "Fall from its upper to its lower end.",
    "elevation": "Height of the contour.",
    "error": "Height of the surface less that of the check point.",
    "expected_error": "Standard deviation that kriging expects of the error there.",
    "farthest_m": "How far the line of sight reaches in this direction.",
    "fixes": "Places that the line runs through.",
    "foretold": "Value that the other places foretell.",
    "foretold_places": "Places that were left out and lay between others.",
    "form_factor": "Area over the square of the longest path (Horton 1932).",
    "from": "Lower bound of the range; empty where it is open.",
    "from_height": "Height where the path begins.",
    "from_m": "Where the stretch begins, from the start of the line.",
    "from_node": "Number of the node that the link begins at.",
    "gain": "What the place sees beyond those before it.",
    "gain_share": "The same as a share of what is to be seen, 0 to 1.",
    "gps_time": "Time of the pulse.",
    "gradient": "Fall over length.",
    "greatest": "Greatest error.",
    "ground": "Height of the ground.",
    "group": "Group of the check points; All for all of them.",
    "height": "Height of the ground there.",
    "height_above": "Height above the ground below.",
    "height_share": "Height between the lowest and the highest point, 0 to 1.",
    "highest": "Highest value in it.",
    "horton": "Stream order after Horton 1945.",
    "hypsometric_integral": "Mean height less the lowest, over the relief.",
    "index": "Whether it is one of the contours that are drawn thick and labelled.",
    "intensity": "Strength of the echo, as the instrument gives it.",
    "kind": "What it is, in a word.",
    "largest": "Largest error, up or down.",
    "least": "Least error.",
    "length_m": "Length in plan; on longitude and latitude that on the ellipsoid.",
    "level": "Level at which it spills.",
    "line": "Number of the line.",
    "link": "Number of the link.",
    "links_in": "Links that run into the node.",
    "longest_path_m": "Longest way of the water to the outlet.",
    "lowest": "Lowest value in it.",
    "max": "Highest value in the zone.",
    "mean": "Mean value in the zone; of bearings the mean direction.",
    "mean_absolute": "Mean of the errors' sizes.",
    "mean_error": "Mean of the errors.",
    "mean_slope_deg": "Mean of the slopes of its cells.",
    "measured": "Value that was measured.",
    "median": "Median of the values in the zone.",
    "median_error": "Median of the errors.",
    "method": "How values between the places are found.",
    "min": "Lowest value in the zone.",
    "model": "Half of the mean squared difference by the model of the variogram.",
    "name": "Name.",
    "node": "Number of the node.",
    "nssda_95": (
        "1.96 times the RMSE: 95 in 100 lie within, if errors are normal and without bias (FGDC 1998)."
    ),
    "number_of_returns": "Returns of its pulse.",
    "order": "Order after Strahler 1957.",
    "outlet_height": "Height of the ground at the outlet.",
    "outlet_x": "Place of the outlet, east.",
    "outlet_y": "Place of the outlet, north.",
    "pairs": "Pairs of places at such a distance.",
    "patch": "Number of the patch.",
    "path": "Number of the path.",
    "path_gradient": "Fall along the longest path, over its length.",
    "percentile_95": "What 95 in 100 of the errors lie within, whatever their distribution (ASPRS 2014).",
    "perimeter_m": "Length of the outline.",
    "point_source_id": "Flight line.",
    "points": "Points that the file holds.",
    "pool_depth": "Greatest depth of the pool at its outlet, where it has one.",
    "pool_m3": "Volume of that pool.",
    "range": "Range of the class in words.",
    "rank": "Place in the order in which the places were chosen.",
    "ray": "Height of the line of sight, bent as light and earth bend it.",
    "relief": "Highest less lowest value.",
    "residual": "Measured less foretold.",
    "return_number": "Which of the returns of its pulse the point is.",
    "rmse": "Root of the mean squared error.",
    "scan_angle": "Angle of the pulse, in steps of 0.006 degrees.",
    "seen": "1 where it is seen, 0 where it is hidden.",
    "semivariance": "Half of the mean squared difference of pairs at the distance.",
    "shape": "Number of the shape.",
    "share": "Share of the whole, 0 to 1.",
    "share_together": "Share that this place and those before it see together, 0 to 1.",
    "shreve": "Magnitude after Shreve 1966: sources above it.",
    "sinuosity": "Length over the straight distance between the ends.",
    "spike": "Whether the depth lies far from its neighbours.",
    "spill_x": "Place where it spills, east.",
    "spill_y": "Place where it spills, north.",
    "spread": "Standard deviation of the errors.",
    "stage": "Level of the water.",
    "standardised": "Residual over the error that kriging expects.",
    "standardised_spread": "Root mean square of standardised residuals: 1 where the expected error is right.",
    "state": "Seen or hidden.",
    "std": "Standard deviation of the values in the zone.",
    "steepness_deg": "Mean slope of the ground beside the line.",
    "strahler": "Stream order after Strahler 1957.",
    "stretch": "Number of the stretch.",
    "threshold": "Bound that values are held against.",
    "tile": "Number of the file, from 0.",
    "time_s": "Seconds of the day, or since the first midnight.",
    "to": "Upper bound of the range; empty where it is open.",
    "to_height": "Height where the path ends.",
    "to_node": "Number of the node that the link ends at.",
    "to_x": "Place where the path ends, east.",
    "to_y": "Place where the path ends, north.",
    "top": "Height of what stands on the ground.",
    "tree": "Number of the tree, the highest first.",
    "tree_height": "Height of its top above the ground.",
    "triangle": "Number of the triangle.",
    "unit": "Unit of the bounds.",
    "upstream_m2": "Plan area that drains through its lower end.",
    "vertex": "Number of the vertex in its shape.",
    "volume_m3": "Volume.",
    "x": "Place, east.",
    "y": "Place, north.",
    "z": "Height.",
    "zone": "Number of the zone.",
}
"""Every column that a step makes of itself; columns of classes, surfaces and zones are named after these."""
CLASS_FIELDS = {
    "m2": "Plan area of the class in the zone.",
    "share": "Share of the class in the classed cells of the zone, 0 to 1.",
    "mean": "Mean of the surface where the zone is of the class.",
}
"""What stands behind the name of a class in a column."""
PLACES = ("x", "y", "to_x", "to_y", "outlet_x", "outlet_y", "spill_x", "spill_y")
"""Columns that hold coordinates."""


def column_name(text: str) -> str:
    """A name for a column made from words: small letters, digits and underscores.

    Examples
    --------
    >>> column_name("Very steep (north)")
    'very_steep_north'
    """
    return re.sub(r"\W+", "_", text.strip()).strip("_").lower() or "column"


def meaning(column: str) -> str:
    """What a column means; empty for those of a person's own."""
    known = FIELDS.get(column)
    end = column.rpartition("_")[2]
    return known if known is not None else CLASS_FIELDS.get(end, "") if "_" in column else ""
