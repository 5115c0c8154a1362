"""Reading and writing open formats; the only place that touches files."""

from moss_step.formats.drivers import close_the_list

close_the_list()
