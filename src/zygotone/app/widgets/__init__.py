"""Parts that the stages are made of."""
