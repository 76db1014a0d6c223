"""What is open to whom, by which access rule: an exact answer, worked out with plain values.

``rules`` has the model, ``document`` its written form, ``space`` and ``axes`` the sets that answers are made of,
``answers`` the answer for one resource, ``sentences`` it in words, ``comparison`` what a change would open.
"""
