"""What is known of a failure beyond its kind: a struct for what its kind is about.

A rule's pattern names what it finds; the struct of its kind takes that. Remedies go by these values, never by a
sentence.
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from msgspec import Struct

from plainfall.failure_kinds import FailureKind

__all__ = [
    "AddressRefused",
    "CommandMissing",
    "DriverMissing",
    "ExtensionMissing",
    "Facts",
    "FileUnusable",
    "HostUnknown",
    "LibraryLacks",
    "ModuleMissing",
    "NameMissing",
    "ObjectLacks",
    "PackageNotBuilt",
    "PortUnusable",
    "SettingUnusable",
    "TableMissing",
    "facts_of",
    "not_built",
]


class Facts(Struct, frozen=True, tag=True):
    """What a failure is about: in ``words`` where its kind has no struct of its own, "" where nothing is named."""

    words: str = ""

    @property
    def named(self) -> str:
        """What is named, as a cause or a remedy shows it."""
        return self.words


class ModuleMissing(Facts, frozen=True, tag=True):
    """A module, or a package under the name that code loads it by, that is not installed."""

    module: str = ""

    @property
    def named(self) -> str:
        return self.module


class NameMissing(Facts, frozen=True, tag=True):
    """A name (class, function, constant) that a module, "" where it is not said, does not have."""

    name: str = ""
    module: str = ""

    @property
    def named(self) -> str:
        return f"{self.name} (of the module {self.module})" if self.module else self.name


class ObjectLacks(Facts, frozen=True, tag=True):
    """A name that objects of a class do not have."""

    name: str = ""
    class_name: str = ""

    @property
    def named(self) -> str:
        return f"a {self.class_name} object has no {self.name}"


class LibraryLacks(Facts, frozen=True, tag=True):
    """A module of the standard library, or a name in one ("module.name"), that the runtime does not have."""

    name: str = ""
    module: str = ""

    @property
    def named(self) -> str:
        """As an import writes it.

        >>> LibraryLacks(name="ParamSpec", module="typing").named
        'typing.ParamSpec'
        """
        return f"{self.module}.{self.name}" if self.module else self.name


class CommandMissing(Facts, frozen=True, tag=True):
    """A program that is not there."""

    command: str = ""

    @property
    def named(self) -> str:
        return self.command


class FileUnusable(Facts, frozen=True, tag=True):
    """A file or a folder that is not there, or cannot be read, written or run."""

    path: str = ""

    @property
    def named(self) -> str:
        return self.path


class SettingUnusable(Facts, frozen=True, tag=True):
    """A setting without a value, or with one that does not do."""

    key: str = ""

    @property
    def named(self) -> str:
        return self.key


class PackageNotBuilt(Facts, frozen=True, tag=True):
    """A package that exists as source alone, and could not be built."""

    package: str = ""
    version: str = ""

    @property
    def named(self) -> str:
        return f"{self.package} {self.version}".strip()


class ExtensionMissing(Facts, frozen=True, tag=True):
    """An extension of a runtime or of a database server, or what one of them brings."""

    extension: str = ""

    @property
    def named(self) -> str:
        return self.extension


class DriverMissing(Facts, frozen=True, tag=True):
    """The driver for a kind of database."""

    driver: str = ""

    @property
    def named(self) -> str:
        return self.driver


class TableMissing(Facts, frozen=True, tag=True):
    """A table that a database does not have."""

    table: str = ""

    @property
    def named(self) -> str:
        return self.table


class AddressRefused(Facts, frozen=True, tag=True):
    """An address, or a port alone, at which no server answers."""

    address: str = ""

    @property
    def named(self) -> str:
        return self.address

    @property
    def port(self) -> int:
        """Its port, 0 where it names none.

        >>> AddressRefused(address="127.0.0.1:5432").port, AddressRefused(address="gauges").port
        (5432, 0)
        """
        last = self.address.rpartition(":")[2]
        return int(last) if last.isdigit() and len(last) < 6 else 0


class HostUnknown(Facts, frozen=True, tag=True):
    """The name of a host that is not reached, or under which a server does not answer."""

    host: str = ""

    @property
    def named(self) -> str:
        return self.host


class PortUnusable(Facts, frozen=True, tag=True):
    """A port that is taken, or that this user may not open; "" where it is not said."""

    port: str = ""

    @property
    def named(self) -> str:
        return self.port


def not_built(label: str) -> PackageNotBuilt:
    """The facts of a package that is known by its label.

    >>> not_built("gaugekit 1.0").version
    '1.0'
    """
    package, _, version = label.partition(" ")
    return PackageNotBuilt(package=package, version=version)


_KIND = FailureKind
_STRUCTS: Mapping[type[Facts], tuple[FailureKind, ...]] = {
    ModuleMissing: (
        _KIND.MODULE_MISSING,
        _KIND.PACKAGE_ASKED_FOR_MISSING,
        _KIND.NODE_MODULE_MISSING,
        _KIND.RUBY_GEMS_MISSING,
        _KIND.RUBY_MODULE_MISSING,
    ),
    NameMissing: (
        _KIND.NAME_MISSING,
        _KIND.OWN_NAME_MISSING,
        _KIND.ATTRIBUTE_MISSING,
        _KIND.PHP_CLASS_MISSING,
        _KIND.PHP_FUNCTION_MISSING,
        _KIND.PHP_METHOD_MISSING,
        _KIND.RUBY_METHOD_MISSING,
        _KIND.RUBY_CONSTANT_MISSING,
        _KIND.RUBY_NAME_MISSING,
    ),
    ObjectLacks: (_KIND.OBJECT_LACKS,),
    LibraryLacks: (
        _KIND.MODULE_OF_ANOTHER_RUNTIME,
        _KIND.NAME_OF_ANOTHER_RUNTIME,
        _KIND.TYPE_OF_ANOTHER_RUNTIME,
        _KIND.REMOVED_IN_RUNTIME,
        _KIND.PHP_FUNCTION_GONE,
    ),
    CommandMissing: (
        _KIND.COMMAND_MISSING,
        _KIND.PROGRAM_MISSING,
        _KIND.COMPILER_MISSING,
        _KIND.BUILD_TOOL_MISSING,
        _KIND.RUBY_TASK_MISSING,
    ),
    FileUnusable: (
        _KIND.FILE_MISSING,
        _KIND.SOURCE_FILE_MISSING,
        _KIND.BUILD_OUTPUT_MISSING,
        _KIND.PHP_LIBRARIES_MISSING,
        _KIND.PHP_SCRIPT_MISSING,
        _KIND.PHP_FILE_INCLUDED,
        _KIND.PHP_FOLDER_SERVED,
        _KIND.PHP_SESSION_FOLDER,
        _KIND.RUBY_SERVER_FILE_LEFT,
        _KIND.DATABASE_FILE,
        _KIND.ENVIRONMENT_BROKEN,
        _KIND.NATIVE_ADD_ON,
        _KIND.LINE_ENDINGS,
        _KIND.RUN_BIT,
        _KIND.PERMISSION,
        _KIND.HEADER_MISSING,
        _KIND.LIBRARY_MISSING,
    ),
    SettingUnusable: (_KIND.SETTING_MISSING, _KIND.RUBY_KEY_MISSING, _KIND.SETTINGS_IMPROPER),
    PackageNotBuilt: (_KIND.BUILD_TOOLS, _KIND.BUILD_FAILED),
    ExtensionMissing: (_KIND.PHP_EXTENSION_MISSING, _KIND.DATABASE_EXTENSION),
    DriverMissing: (_KIND.DATABASE_DRIVER_MISSING, _KIND.RUBY_DATABASE_ADAPTER),
    TableMissing: (_KIND.TABLE_MISSING,),
    AddressRefused: (_KIND.CONNECTION_REFUSED, _KIND.DATABASE_UNREACHABLE),
    HostUnknown: (_KIND.HOST_UNREACHED, _KIND.HOST_UNKNOWN, _KIND.HOST_NOT_ALLOWED, _KIND.ORIGIN_NOT_ALLOWED),
    PortUnusable: (_KIND.PORT_TAKEN, _KIND.PORT_PRIVILEGED),
}
_STRUCT_OF = {kind: struct for struct, kinds in _STRUCTS.items() for kind in kinds}


def facts_of(kind: FailureKind, found: Mapping[str, Any]) -> Facts:
    """The facts of a kind, from what its pattern found: what has the name of a field is that field's; of all else
    the first that is not empty is what the failure is about.

    >>> facts_of(FailureKind.NAME_OF_ANOTHER_RUNTIME, {"name": "ParamSpec", "module": "typing"}).named
    'typing.ParamSpec'
    >>> facts_of(FailureKind.TABLE_MISSING, {"name": None, "other": "gauges"})
    TableMissing(words='', table='gauges')
    """
    struct = _STRUCT_OF.get(kind, Facts)
    fields = {name: str(value) for name, value in found.items() if value and name in struct.__struct_fields__}
    first = struct.__struct_fields__[-1] if struct is Facts else struct.__struct_fields__[1]
    others = [str(value) for name, value in found.items() if value and name not in fields]
    if first not in fields and others:
        fields[first] = others[0]
    return struct(**fields)
