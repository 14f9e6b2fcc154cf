"""The devices, one module each. A new module in this folder is found by itself."""

import importlib
import pkgutil

for _module in sorted(m.name for m in pkgutil.iter_modules(__path__)):
    importlib.import_module(f"{__name__}.{_module}")

from zygotone.devices.base import Host, Processor, make_processor  # noqa: E402

__all__ = ["Host", "Processor", "make_processor"]
