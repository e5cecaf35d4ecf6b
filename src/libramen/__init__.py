"""Libramen: replay a request trace against hosting plans, and know before you pay.

Every public name can be imported from here; `__init__.pyi` lists them, and each is loaded when it is first used.
"""

import lazy_loader

__getattr__, __dir__, __all__ = lazy_loader.attach_stub(__name__, __file__)
