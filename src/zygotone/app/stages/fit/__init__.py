"""The Fit stage: who hides whom, four ways to see it, and the ladder of fixes under each."""

from zygotone.app.stages.fit.stage import FitStage

__all__ = ["FitStage"]
