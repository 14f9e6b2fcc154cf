"""Findings, each with its evidence, and fixes in the order to try them."""
