"""The layer's ``pnputil`` does nothing; this one, in its place, calls the layer's own driver store."""
