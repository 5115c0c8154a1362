"""Pages: drawn in millimetres, on the screen and in files, and edited by hand."""
