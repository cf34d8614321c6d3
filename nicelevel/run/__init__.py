"""Starting and keeping up what runs: the database, the worker, the web server."""
