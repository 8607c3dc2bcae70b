"""What the commands print: terminal views and JSON documents."""
