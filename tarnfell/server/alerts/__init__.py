"""Alerts of an engagement: rules, whom they are sent to, and figures for monitoring."""
