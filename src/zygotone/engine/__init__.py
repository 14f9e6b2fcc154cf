"""From session to sound: the graph, its rendering by blocks, the cache, and streaming."""
