"""Star catalogues: files, the cone search protocol, an index on the sky."""
