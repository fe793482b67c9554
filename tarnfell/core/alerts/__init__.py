"""Alerts: rules in one sentence each (rules), and the times at which what was measured keeps one (spells)."""
