"""Where the standard actions are found by their names."""

from __future__ import annotations

from collections.abc import Callable

from yendo.installers.msi.session import InstallSession

StandardAction = Callable[[InstallSession], None]
STANDARD: dict[str, StandardAction] = {}


def standard(name: str) -> Callable[[StandardAction], StandardAction]:
    """Registers a function as the standard action of this name."""

    def keep(function: StandardAction) -> StandardAction:
        STANDARD[name] = function
        return function

    return keep


# Source: the documented list of standard actions; these change nothing that is not done elsewhere here.
WITHOUT_EFFECT = frozenset(
    """
    CostInitialize FileCost InstallValidate InstallInitialize InstallFinalize InstallExecute InstallExecuteAgain
    UnpublishFeatures PublishFeatures RegisterUser ValidateProductID ResolveSource SetODBCFolders
    AllocateRegistrySpace BindImage CCPSearch RMCCPSearch DisableRollback InstallAdminPackage ExecuteAction
    MsiPublishAssemblies MsiUnpublishAssemblies SelfRegModules SelfUnregModules RegisterComPlus UnregisterComPlus
    InstallSFPCatalogFile PatchFiles PublishPackage ADMIN ADVERTISE INSTALL SEQUENCE
    """.split()
)

# Tables whose rows change a machine in ways that no table tells.
NOT_INTERPRETED = {
    "SelfReg": "modules that register themselves: only running them shows what they write",
    "Complus": "COM+ applications",
    "MsiShortcutProperty": "properties of shortcuts",
    "Patch": "files changed by binary deltas: only applying them shows their new contents",
    "SFPCatalog": "system file catalogues",
}
