"""Engagements, their sites, and what each must carry."""
