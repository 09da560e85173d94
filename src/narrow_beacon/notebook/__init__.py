"""The same steps as the page and the command line walk, as functions on arrays and tables."""
