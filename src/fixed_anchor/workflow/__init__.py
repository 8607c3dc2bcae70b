"""The whole job, step by step: joins the parts, and prints nothing."""
