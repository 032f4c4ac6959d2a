"""How the documentation is made into pages: `make site`."""

from facturum.version import VERSION

project, author, release = "Facturum", "the Facturum authors", VERSION
project_copyright = "2026, the Facturum authors"
extensions = ["myst_parser", "sphinx.ext.autodoc", "sphinx.ext.napoleon"]
html_theme = "furo"
html_title = f"Facturum {VERSION}"
html_theme_options = {"source_edit_link": None, "top_of_page_buttons": []}
html_show_sphinx = False
html_copy_source = False
exclude_patterns = ["guide/data"]
default_role = "literal"  # docstrings write code between single backticks, as Markdown does
myst_heading_anchors = 4
myst_links_external_new_tab = False
autodoc_member_order = "bysource"
autodoc_typehints = "none"
autodoc_default_options = {
    "members": True,
    "inherited-members": "BaseModel, Exception, tuple",
}
napoleon_google_docstring, napoleon_numpy_docstring = True, False
add_module_names = False
python_use_unqualified_type_names = True
