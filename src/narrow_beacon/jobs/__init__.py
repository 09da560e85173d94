"""Long work: tasks on a cluster, progress, cancel, resume."""
