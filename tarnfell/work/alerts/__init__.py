"""Alerts: what rules find (evidence), each spell told once (looking), and a rule tried on the past (trial)."""
