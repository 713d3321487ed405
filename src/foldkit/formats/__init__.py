"""Open files and nothing else."""

from typing import TYPE_CHECKING

from .atomic import write_aside as write_aside
from .errors import FoldKitError as FoldKitError
from .errors import InputError as InputError
from .errors import LostProcessError as LostProcessError
from .errors import StoppedError as StoppedError
from .errors import UsageError as UsageError
from .errors import listed as listed
from .errors import near_name as near_name
from .errors import one_of as one_of
from .fingerprint import fingerprint_files as fingerprint_files
from .fingerprint import fingerprint_value as fingerprint_value
from .fingerprint import seal as seal
from .fingerprint import unsealed as unsealed
from .json_object import read_json as read_json
from .json_text import json_value as json_value
from .jsonl import append_jsonl as append_jsonl
from .jsonl import read_jsonl as read_jsonl
from .jsonl import write_jsonl as write_jsonl
from .kept import all_kept as all_kept
from .kept import keep as keep
from .lazy import lazy_door
from .lock import is_locked as is_locked
from .lock import locked as locked
from .messages import ROLE_NAMES as ROLE_NAMES
from .messages import ROLES as ROLES
from .messages import Message as Message
from .messages import are_messages as are_messages
from .messages import check_roles as check_roles
from .messages import named_roles as named_roles
from .messages import read_messages as read_messages
from .messages import unread_keys as unread_keys
from .settings import read_settings as read_settings
from .toml import read_toml as read_toml

if TYPE_CHECKING:
    from .gguf import GgufFile as GgufFile
    from .gguf import GgufTensor as GgufTensor
    from .gguf_blocks import BLOCK_TYPES as BLOCK_TYPES
    from .gguf_blocks import expand_blocks as expand_blocks

# NumPy is needed for GGUF alone, and `foldkit --help` should not wait for it.
__getattr__, __dir__, __all__ = lazy_door(
    __name__,
    {
        "gguf": ("GgufFile", "GgufTensor"),
        "gguf_blocks": ("BLOCK_TYPES", "expand_blocks"),
    },
)
__all__ += [
    "ROLES",
    "ROLE_NAMES",
    "FoldKitError",
    "InputError",
    "LostProcessError",
    "Message",
    "StoppedError",
    "UsageError",
    "all_kept",
    "append_jsonl",
    "are_messages",
    "check_roles",
    "fingerprint_files",
    "fingerprint_value",
    "is_locked",
    "json_value",
    "listed",
    "locked",
    "named_roles",
    "near_name",
    "one_of",
    "read_json",
    "read_jsonl",
    "read_messages",
    "read_settings",
    "read_toml",
    "seal",
    "unread_keys",
    "unsealed",
    "write_aside",
    "write_jsonl",
]
