"""What the window does with the pictures of each kind, a module each; the registry finds them."""
