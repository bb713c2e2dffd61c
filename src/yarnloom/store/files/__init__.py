"""The folder of kept files, and the records of them."""
