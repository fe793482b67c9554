"""From uploaded packet records to judged figures: packets reads records, uploads judges a run, pictures its video."""
