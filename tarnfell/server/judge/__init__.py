"""What the evidence says: a site's page, two runs side by side, remedies."""
