"""Files exchanged with others: captures and echo logs made elsewhere, and our own runs as captures."""
