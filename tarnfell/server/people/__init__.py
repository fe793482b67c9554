"""People: who belongs to an engagement, one's own account, links that let somebody in, and what customers see."""
