"""Remove what the camera added: masters, matching, correction, defects."""
