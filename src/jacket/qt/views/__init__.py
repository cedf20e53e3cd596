"""The two views and what is drawn over them."""
