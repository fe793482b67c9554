"""Reports: what goes into one (``report``), and the documents that the clerk makes of it (``documents``)."""
