"""What `start` runs: the database, the cluster, the stand-in service and the server."""
