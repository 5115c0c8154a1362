"""What stands on a page, worked out without Qt: fields, grounds, rows, north, greys and the trail."""
