"""The site: ``make docs``. Needs no network."""

import sys
from pathlib import Path

HERE = Path(__file__).parent
sys.path.insert(0, str(HERE))

import reference  # noqa: E402

import patient_usher  # noqa: E402

reference.write(HERE / "made")

project = "Patient Usher"
author = "The Patient Usher developers"
copyright = author
version = release = patient_usher.__version__
extensions = ["myst_parser"]
myst_enable_extensions = ["colon_fence", "deflist"]
myst_heading_anchors = 3
exclude_patterns = ["_build", "screenshots"]
html_theme = "furo"
html_title = f"Patient Usher {version}"
html_show_copyright = False
html_show_sphinx = False
html_copy_source = False
html_static_path = ["static"]
html_css_files = ["usher.css"]
html_theme_options = {
    "light_css_variables": {"color-brand-primary": "#1f5f7a", "color-brand-content": "#1f5f7a"},
    "dark_css_variables": {"color-brand-primary": "#8cc6dd", "color-brand-content": "#8cc6dd"},
}
html_last_updated_fmt = None
man_pages = [("man", "usher", "a laboratory for HTTP middleware", [author], 1)]
suppress_warnings = ["myst.header"]  # pages that include a file begin where it does
