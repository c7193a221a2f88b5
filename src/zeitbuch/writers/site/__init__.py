"""The pages of a site around those of its flows, as HTML."""
