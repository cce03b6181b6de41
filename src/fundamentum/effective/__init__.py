"""The configuration that a request of one site really meets: all layers, merged as PHP merges them."""
