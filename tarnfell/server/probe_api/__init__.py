"""What probes say and are told."""
