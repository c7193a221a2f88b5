"""The first sheet of a document: what its signer reads."""
