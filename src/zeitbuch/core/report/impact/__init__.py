"""What hangs on a thing: what stops, goes on and is no longer done when it is gone, slower or dearer."""
