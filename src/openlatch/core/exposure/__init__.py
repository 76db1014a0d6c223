"""What access rules open to whom, computed exactly from plain values.

``rules`` has the model, ``document`` its written form, ``space`` and ``axes`` the sets that answers consist of,
``answers`` the answer for one resource, ``sentences`` the answer in words, ``comparison`` what a change would open.
"""
