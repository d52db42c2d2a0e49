"""Where the standard actions are found by their names."""

from __future__ import annotations

from collections.abc import Callable

from yendo.installers.msi.session import Session

Action = Callable[[Session], None]
STANDARD: dict[str, Action] = {}


def standard(name: str) -> Callable[[Action], Action]:
    """Registers a function as the standard action of this name."""

    def keep(function: Action) -> Action:
        STANDARD[name] = function
        return function

    return keep


# Source: the documented list of standard actions; these change nothing that is not done elsewhere here.
WITHOUT_EFFECT = frozenset(
    """
    CostInitialize FileCost IsolateComponents InstallValidate InstallInitialize InstallFinalize InstallExecute
    InstallExecuteAgain ProcessComponents UnpublishComponents UnpublishFeatures PublishComponents PublishFeatures
    RegisterUser MigrateFeatureStates ValidateProductID ResolveSource SetODBCFolders StartServices StopServices
    AllocateRegistrySpace BindImage CCPSearch RMCCPSearch DisableRollback InstallAdminPackage ExecuteAction
    CreateShortcut MsiPublishAssemblies MsiUnpublishAssemblies SelfRegModules SelfUnregModules RegisterComPlus
    UnregisterComPlus InstallODBC RemoveODBC InstallSFPCatalogFile MoveFiles PatchFiles PublishPackage
    RegisterClassInfo RegisterExtensionInfo RegisterFonts RegisterMIMEInfo RegisterProgIdInfo
    RegisterTypeLibraries UnregisterClassInfo UnregisterExtensionInfo UnregisterFonts UnregisterMIMEInfo
    UnregisterProgIdInfo UnregisterTypeLibraries MsiConfigureServices LaunchConditionsDone ADMIN ADVERTISE INSTALL
    SEQUENCE
    """.split()
)

NOT_INTERPRETED = {
    "MoveFile": "files that are moved or copied on the machine",
    "Font": "fonts",
    "SelfReg": "modules that register themselves",
    "Class": "COM classes",
    "ProgId": "programmatic identifiers",
    "Extension": "file types",
    "MIME": "content types",
    "Verb": "verbs of file types",
    "TypeLib": "type libraries",
    "AppId": "application identifiers of COM",
    "ODBCDriver": "database drivers",
    "ODBCDataSource": "data sources",
    "ODBCTranslator": "translators of data sources",
    "LockPermissions": "access rights",
    "MsiLockPermissionsEx": "access rights",
    "MsiAssembly": "assemblies",
    "MsiServiceConfig": "recovery settings of services",
    "MsiServiceConfigFailureActions": "failure actions of services",
    "RemoveIniFile": "entries taken out of ini files",
    "PublishComponent": "components published for others",
    "Complus": "COM+ applications",
    "IsolatedComponent": "isolated components",
    "BindImage": "bound imports",
    "MsiShortcutProperty": "properties of shortcuts",
    "SFPCatalog": "system file catalogues",
}
