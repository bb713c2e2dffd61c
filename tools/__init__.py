"""Tools of the developers: neither product nor test."""
