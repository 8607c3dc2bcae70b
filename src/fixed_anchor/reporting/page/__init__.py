"""The page to hand over, as HTML and as Markdown."""
