"""Help that fits its terminal: paragraphs are filled to the width, examples and lists stay as they are."""

from __future__ import annotations

import argparse


class ParagraphHelp(argparse.RawDescriptionHelpFormatter):
    """Fills the running text of descriptions and epilogs; what is set in keeps its lines."""

    def _fill_text(self, text: str, width: int, indent: str) -> str:
        import textwrap

        lines: list[str] = []
        running: list[str] = []

        def fill_running() -> None:
            if running:
                lines.extend(textwrap.wrap(" ".join(running), width, break_long_words=False, break_on_hyphens=False))
                running.clear()

        for line in text.splitlines():
            if not line or line.startswith(" "):
                fill_running()
                lines.append(line)
            else:
                running.append(line)
                if line.endswith((".", ":")):  # a sentence that ends with its line ends a paragraph
                    fill_running()
        fill_running()
        return "\n".join([indent + line if line else "" for line in lines])
