"""The devices, one module each. A new module in this folder is found by itself."""

import importlib
import pkgutil

from zygotone.devices.base import Host, Processor, make_processor

for _module in sorted(m.name for m in pkgutil.iter_modules(__path__)):
    importlib.import_module(f"{__name__}.{_module}")

__all__ = ["Host", "Processor", "make_processor"]
