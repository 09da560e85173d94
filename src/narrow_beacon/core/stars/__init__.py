"""What is on an exposure: background, detections, profile, trails, quality."""
