"""The Sounds stage, a module for each of its tabs."""

from zygotone.app.stages.sounds.stage import SoundsStage

__all__ = ["SoundsStage"]
