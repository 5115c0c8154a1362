"""What a press, a pull and a key do on the plan: one object a tool, in a file of its own."""
