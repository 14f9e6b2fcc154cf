"""The stages, one module or package each. A new one in this folder is found by itself."""

import importlib
import pkgutil

from zygotone.app.stages.base import STAGES, Stage, StageWidget

for _module in sorted(m.name for m in pkgutil.iter_modules(__path__)):
    importlib.import_module(f"{__name__}.{_module}")

__all__ = ["STAGES", "Stage", "StageWidget"]
