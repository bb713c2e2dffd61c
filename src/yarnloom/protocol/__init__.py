"""What travels between the service and others: bodies of requests, and answers."""
