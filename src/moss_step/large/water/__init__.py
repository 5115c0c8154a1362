"""Water on a ground in tiles: each tile is reduced to its rim, one small graph is solved, each tile is
finished.

Barnes 2016, Parallel priority-flood depression filling for trillion cell digital elevation models on desktops
or clusters, Computers & Geosciences 96; Barnes 2017, Parallel non-divergent flow accumulation for trillion
cell digital elevation models on desktops or clusters, Environmental Modelling & Software 92.
"""
