"""What a run keeps of itself: counts while it goes (`account`), what it did (`outcome`), and the receipt.

In come the rows and problems of each chunk; out goes a receipt whose sums must add up (`balance`). Begin at
`receipt`, which says what each part means.
"""
