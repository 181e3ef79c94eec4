"""How the site is built: Markdown by MyST, the theme Furo, formulas as MathML; nothing is loaded from outside."""

project = "Dravik"
author = "the Dravik developers"
copyright = "the Dravik developers, BSD 3-Clause"
extensions = ["myst_parser", "sphinx.ext.autodoc", "sphinx.ext.napoleon", "tools.docsite.mathml"]
myst_enable_extensions = ["dollarmath", "colon_fence", "deflist", "attrs_block"]
myst_heading_anchors = 4
html_theme = "furo"
html_title = "Dravik"
html_static_path = ["_static"]
html_css_files = ["site.css"]
html_show_sphinx = False
html_copy_source = False
html_show_sourcelink = False
pygments_style = "friendly"
pygments_dark_style = "monokai"
autodoc_typehints = "none"  # the signature has them; the text would say them twice
autodoc_member_order = "bysource"
napoleon_google_docstring = False
napoleon_use_rtype = False
napoleon_use_ivar = True
toc_object_entries = (
    False  # a page of Python begins with its list of names; in every navigation they cost half the build
)
exclude_patterns = ["_made", "package.md"]  # the index page of the package stands for itself
html_math_renderer = "mathml"
suppress_warnings = ["ref.python"]  # words of a type, such as shape, that are names of several things
smartquotes = False  # --option and "quotes" are meant as they stand
