"""A made-up sky, a camera and demo nights, with the truth of everything."""
