"""Chores that are neither product nor test."""
