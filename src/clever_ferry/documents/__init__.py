"""Documents: values in texts, read by place, changed, added and taken away; the rest stays."""
