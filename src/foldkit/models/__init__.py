"""The decoder, its files, next tokens from ids and log-probabilities of given ids."""

from typing import TYPE_CHECKING

from foldkit.formats.lazy import lazy_door

if TYPE_CHECKING:
    from .base import Base as Base
    from .base import decoder_without_weights as decoder_without_weights
    from .base import fingerprint_base as fingerprint_base
    from .base import open_base as open_base
    from .batch import Batch as Batch
    from .batch import Replies as Replies
    from .batch import pack as pack
    from .batch import pack_replies as pack_replies
    from .batch import pad as pad
    from .bounds import highest_probabilities as highest_probabilities
    from .cache import Cache as Cache
    from .compute import chosen_compute as chosen_compute
    from .decoder import Decoder as Decoder
    from .device import chosen_device as chosen_device
    from .folder import save_folder as save_folder
    from .generating import generate as generate
    from .generating import stream as stream
    from .likelihood import chunked_loss as chunked_loss
    from .likelihood import learned_stream as learned_stream
    from .likelihood import reply_log_probs as reply_log_probs
    from .likelihood import token_losses as token_losses
    from .rotary import Rope as Rope
    from .sampling import Sampling as Sampling
    from .settings import BaseSettings as BaseSettings
    from .spec import ModelSpec as ModelSpec

__getattr__, __dir__, __all__ = lazy_door(
    __name__,
    {
        "base": ("Base", "decoder_without_weights", "fingerprint_base", "open_base"),
        "batch": ("Batch", "Replies", "pack", "pack_replies", "pad"),
        "bounds": ("highest_probabilities",),
        "cache": ("Cache",),
        "compute": ("chosen_compute",),
        "decoder": ("Decoder",),
        "device": ("chosen_device",),
        "folder": ("save_folder",),
        "generating": ("generate", "stream"),
        "likelihood": ("chunked_loss", "learned_stream", "reply_log_probs", "token_losses"),
        "rotary": ("Rope",),
        "sampling": ("Sampling",),
        "settings": ("BaseSettings",),
        "spec": ("ModelSpec",),
    },
)
