"""A campaign against what comes from outside: damaged files, settings at random, hostile studies, kills, a full disk, little memory."""
