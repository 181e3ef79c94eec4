"""The flow around a drawing: lattice, strips, separation, friction, slender bodies, slipstreams, all together."""
