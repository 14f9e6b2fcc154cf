"""The Chains stage: the row of devices, the fields of one, what it did."""

from zygotone.app.stages.chains.stage import ChainsStage

__all__ = ["ChainsStage"]
