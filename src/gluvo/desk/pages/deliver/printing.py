"""The report as a PDF."""

from __future__ import annotations

import os
import re
from pathlib import Path

from PySide6.QtCore import QByteArray, QMarginsF, QUrl
from PySide6.QtGui import QGuiApplication, QImage, QPageLayout, QPageSize, QPainter, QPdfWriter, QTextDocument
from PySide6.QtSvg import QSvgRenderer

from gluvo.deliver import report
from gluvo.desk.controls.theme import load_type
from gluvo.errors import WriteError
from gluvo.session.files import reason_of, replacing

FINE = 3
"""Pixels of a graph for each of its units."""
SVG = re.compile(r"<svg.*?</svg>", re.DOTALL)
PLAIN = """
body { font-family: 'IBM Plex Sans Condensed'; font-size: 9pt; }
td, th { padding: 1px 10px 1px 0; } th { color: #66727D; font-weight: normal; }
.big { font-size: 24pt; font-weight: bold; } .faint, .hash { color: #66727D; } .good { color: #4B7A35; } .over { color: #BF232B; }
"""


def print_to_file(material: report.Material, path: Path) -> None:
    """As `print_report`, where there is neither a window nor a screen: for the command line."""
    os.environ["QT_QPA_PLATFORM"] = "offscreen"
    application = QGuiApplication.instance() or QGuiApplication([])
    load_type()
    print_report(material, path)
    del application  # until here it is needed


def print_report(material: report.Material, path: Path) -> None:
    """Print a report to a PDF, on A4. Raises `WriteError` if it cannot be written."""
    document = QTextDocument()
    graphs: list[QImage] = []

    def pictured(found: re.Match[str]) -> str:
        name = f"graph-{len(graphs)}"
        renderer = QSvgRenderer(QByteArray(found[0].encode()))
        size = renderer.defaultSize()
        image = QImage(size * FINE, QImage.Format.Format_ARGB32)
        image.fill(0)
        painter = QPainter(image)
        renderer.render(painter)
        painter.end()
        graphs.append(image)
        document.addResource(QTextDocument.ResourceType.ImageResource, QUrl(name), image)
        return f'<img src="{name}" width="520">'

    html = SVG.sub(pictured, report.as_html(material))
    document.setDefaultStyleSheet(PLAIN)
    document.setHtml(re.sub(r"<style>.*?</style>", "", html, flags=re.DOTALL))
    try:
        with replacing(path) as file:
            part = Path(f"/proc/self/fd/{file.fileno()}")
            writer = QPdfWriter(str(part))
            writer.setPageSize(QPageSize(QPageSize.PageSizeId.A4))
            writer.setPageMargins(QMarginsF(16, 16, 16, 16), QPageLayout.Unit.Millimeter)
            writer.setTitle(f"{material.session.name} - report")
            document.setPageSize(QPageSize(QPageSize.PageSizeId.A4).sizePoints())
            document.print_(writer)
            del writer
    except OSError as error:
        raise WriteError(f"{path.name} could not be written ({reason_of(error)}).") from None
