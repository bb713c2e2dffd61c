"""What a service and its programs are told: options, variables, and the file of a project."""
