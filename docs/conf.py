"""How the pages are built; ``make site`` gathers the sources first (tools/make_site.py)."""

project = "Moss Step"
author = copyright = "The Moss Step developers"
extensions = ["myst_parser", "sphinx.ext.autodoc", "sphinx.ext.napoleon"]
html_theme = "furo"
html_title = "Moss Step"
html_show_sourcelink = html_copy_source = html_show_sphinx = False
html_theme_options = {
    "light_css_variables": {"color-brand-primary": "#4a6b33", "color-brand-content": "#4a6b33"},
    "dark_css_variables": {"color-brand-primary": "#d9c24a", "color-brand-content": "#d9c24a"},
}
myst_heading_anchors = 3
autodoc_typehints = "none"
suppress_warnings = ["myst.xref_missing", "misc.highlighting_failure"]
