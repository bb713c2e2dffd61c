"""What every request passes, and how problems and the description are told."""
