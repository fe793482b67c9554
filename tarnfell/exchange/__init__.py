"""Files exchanged with others: captures and logs of ping to read, and our own runs as captures."""
