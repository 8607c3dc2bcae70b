"""What a change is: its states, its contents, and what it can be made to."""
