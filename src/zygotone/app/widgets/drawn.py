"""What looks the same again and again, scales and axes above all, is drawn once and kept."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import Qt
from PySide6.QtGui import QPainter, QPixmap, QPixmapCache
from PySide6.QtWidgets import QWidget


def drawn_once(widget: QWidget, key: str, paint: Callable[[QPainter], None]) -> QPixmap:
    """As large as ``widget``, transparent where ``paint`` leaves it so; ``key`` says all that it depends on, but the size."""
    size, ratio = widget.size(), widget.devicePixelRatioF()
    whole = f"{key} {size.width()} {size.height()} {ratio}"
    found = QPixmap()
    if not QPixmapCache.find(whole, found):
        found = QPixmap(size * ratio)
        found.setDevicePixelRatio(ratio)
        found.fill(Qt.GlobalColor.transparent)
        with QPainter(found) as painter:
            painter.setRenderHint(QPainter.RenderHint.Antialiasing)
            paint(painter)
        QPixmapCache.insert(whole, found)
    return found
