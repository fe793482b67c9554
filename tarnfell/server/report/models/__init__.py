"""What the report routes say and are told."""
