"""The rules over the whole register: facts as SQL, rules as SQL, and what differs from what was found before."""
