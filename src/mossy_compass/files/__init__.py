"""Network descriptions in and out of files: YAML and validation happen here and nowhere else."""
