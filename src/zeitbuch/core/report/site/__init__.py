"""The site of all documents: its rows, and the pages that group them."""
