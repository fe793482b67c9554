"""Reports as people fetch them."""
