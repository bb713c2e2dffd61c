"""Records of workers, pools and published workflows."""
