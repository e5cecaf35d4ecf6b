"""How the site is built from this folder: `sphinx-build -W docs site`. A link that leads nowhere is an error."""

from __future__ import annotations

import os

from libramen._version import __version__

project = "Libramen"
author = "The Libramen authors"
copyright = author  # noqa: A001  (the generator wants this name)
release = version = __version__

extensions = ["myst_nb", "sphinx.ext.autodoc", "sphinx.ext.napoleon", "sphinx_copybutton"]
exclude_patterns = ["_build"]
suppress_warnings = ["ref.python"]  # attributes of several classes have the same name

html_theme = "furo"
html_title = "Libramen"
html_static_path = ["_static"]
html_css_files = ["site.css"]
html_show_sphinx = False
html_show_copyright = False
html_copy_source = False
html_theme_options = {
    "light_css_variables": {"color-brand-primary": "#17616f", "color-brand-content": "#17616f"},
    "dark_css_variables": {"color-brand-primary": "#7cc7d6", "color-brand-content": "#7cc7d6"},
}

myst_enable_extensions = ["colon_fence"]
myst_heading_anchors = 3
myst_dmath_double_inline = False

# Notebooks are run when the site is built, on demos that they write; an error in one is one of the site.
nb_execution_mode = os.environ.get("LIBRAMEN_NOTEBOOKS", "force")
nb_execution_raise_on_error = True
nb_execution_timeout = 300
nb_execution_in_temp = True
nb_merge_streams = True

napoleon_use_ivar = True
autodoc_member_order = "bysource"
autodoc_typehints = "signature"
autodoc_default_options = {"members": True, "show-inheritance": False}
python_use_unqualified_type_names = True

copybutton_prompt_text = "$ "
