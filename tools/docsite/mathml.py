"""Formulas of the documentation as MathML, which browsers draw themselves: no script from outside."""

from typing import Any

import latex2mathml.converter
from docutils import nodes


def _visit_inline(translator: Any, node: Any) -> None:
    translator.body.append(latex2mathml.converter.convert(node.astext()))
    raise nodes.SkipNode


def _visit_block(translator: Any, node: Any) -> None:
    translator.body.append(latex2mathml.converter.convert(node.astext(), display="block"))
    raise nodes.SkipNode


def setup(app: Any) -> dict[str, bool]:
    """Tell Sphinx of the renderer."""
    app.add_html_math_renderer("mathml", (_visit_inline, None), (_visit_block, None))
    return {"parallel_read_safe": True, "parallel_write_safe": True}
