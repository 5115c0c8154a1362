"""Areas and grids: outlines, patches, tessellations, statistics per zone."""
