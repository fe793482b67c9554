"""From an evaluated site to the page the customer signs: HTML and PDF from one template, and its figures."""
