"""The columns of the standard tables, in the notation of table text files; ``!`` marks the key.

Source: the Windows Installer's documentation of each table. A database carries its own schema, so
this one serves writing only.
"""

# The numbers of standard actions in a sequence, as their documentation suggests them.
SUGGESTED = {
    "FindRelatedProducts": 25, "AppSearch": 50, "LaunchConditions": 100, "ValidateProductID": 700,
    "CostInitialize": 800, "FileCost": 900, "CostFinalize": 1000, "MigrateFeatureStates": 1200,
    "ExecuteAction": 1300, "InstallValidate": 1400, "RemoveExistingProducts": 1450, "InstallInitialize": 1500,
    "ProcessComponents": 1600, "UnpublishFeatures": 1800, "StopServices": 1900, "DeleteServices": 2000,
    "RemoveRegistryValues": 2600,
    "UnregisterClassInfo": 2700, "UnregisterExtensionInfo": 2800,
    "UnregisterProgIdInfo": 2900, "UnregisterMIMEInfo": 3000,
    "RemoveShortcuts": 3200, "RemoveEnvironmentStrings": 3300, "RemoveIniValues": 3310,
    "RemoveDuplicateFiles": 3400, "RemoveFiles": 3500, "RemoveFolders": 3600, "CreateFolders": 3700,
    "InstallFiles": 4000, "DuplicateFiles": 4210, "CreateShortcuts": 4500, "RegisterClassInfo": 4600,
    "RegisterExtensionInfo": 4700, "RegisterProgIdInfo": 4800, "RegisterMIMEInfo": 4900, "WriteRegistryValues": 5000,
    "WriteIniValues": 5100, "WriteEnvironmentStrings": 5200, "InstallServices": 5800, "StartServices": 5900,
    "RegisterUser": 6000, "RegisterProduct": 6100, "PublishFeatures": 6300, "PublishProduct": 6400,
    "InstallFinalize": 6600,
}  # fmt: skip

SCHEMA: dict[str, str] = {
    "ActionText": "Action! s72, Description L64, Template L128",
    "AdminExecuteSequence": "Action! s72, Condition S255, Sequence I2",
    "AppSearch": "Property! s72, Signature_! s72",
    "Binary": "Name! s72, Data v0",
    "Component": "Component! s72, ComponentId S38, Directory_ s72, Attributes i2, Condition S255, KeyPath S72",
    "Condition": "Feature_! s38, Level! i2, Condition S255",
    "CreateFolder": "Directory_! s72, Component_! s72",
    "CustomAction": "Action! s72, Type i2, Source S72, Target S255",
    "Directory": "Directory! s72, Directory_Parent S72, DefaultDir l255",
    "DuplicateFile": "FileKey! s72, Component_ s72, File_ s72, DestName L255, DestFolder S72",
    "Environment": "Environment! s72, Name l255, Value L255, Component_ s72",
    "Feature": "Feature! s38, Feature_Parent S38, Title L64, Description L255, Display I2, Level i2, Directory_ S72, "
    "Attributes i2",
    "FeatureComponents": "Feature_! s38, Component_! s72",
    "File": "File! s72, Component_ s72, FileName l255, FileSize i4, Version S72, Language S20, Attributes I2, "
    "Sequence i4",
    "Icon": "Name! s72, Data v0",
    "IniFile": "IniFile! s72, FileName l255, DirProperty S72, Section l96, Key l128, Value l255, Action i2, "
    "Component_ s72",
    "InstallExecuteSequence": "Action! s72, Condition S255, Sequence I2",
    "InstallUISequence": "Action! s72, Condition S255, Sequence I2",
    "LaunchCondition": "Condition! s255, Description l255",
    "Media": "DiskId! i2, LastSequence i4, DiskPrompt L64, Cabinet S255, VolumeLabel S32, Source S72",
    "MsiFileHash": "File_! s72, Options i2, HashPart1 i4, HashPart2 i4, HashPart3 i4, HashPart4 i4",
    "Property": "Property! s72, Value l0",
    "RegLocator": "Signature_! s72, Root i2, Key s255, Name S255, Type I2",
    "Registry": "Registry! s72, Root i2, Key l255, Name L255, Value L0, Component_ s72",
    "RemoveFile": "FileKey! s72, Component_ s72, FileName L255, DirProperty s72, InstallMode i2",
    "RemoveRegistry": "RemoveRegistry! s72, Root i2, Key l255, Name L255, Component_ s72",
    "ServiceControl": "ServiceControl! s72, Name l255, Event i2, Arguments L255, Wait I2, Component_ s72",
    "ServiceInstall": "ServiceInstall! s72, Name s255, DisplayName L255, ServiceType i4, StartType i4, ErrorControl i4,"
    " LoadOrderGroup S255, Dependencies S255, StartName S255, Password S255, Arguments S255,"
    " Component_ s72, Description L255",
    "Shortcut": "Shortcut! s72, Directory_ s72, Name l128, Component_ s72, Target s72, Arguments S255, Description "
    "L255,"
    " Hotkey I2, Icon_ S72, IconIndex I2, ShowCmd I2, WkDir S72",
    "AppId": "AppId! s38, RemoteServerName S255, LocalService S255, ServiceParameters S255, DllSurrogate S255, "
    "ActivateAtStorage I2, RunAsInteractiveUser I2",
    "BindImage": "File_! s72, Path S255",
    "CheckBox": "Property! s72, Value S64",
    "Class": "CLSID! s38, Context! s32, Component_! s72, ProgId_Default S255, Description L255, AppId_ S38, "
    "FileTypeMask S255, Icon_ S72, IconIndex I2,"
    " DefInprocHandler S32, Argument S255, Feature_ s38, Attributes I2",
    "ComboBox": "Property! s72, Order! i2, Value s64, Text L64",
    "CompLocator": "Signature_! s72, ComponentId s38, Type I2",
    "Control": "Dialog_! s72, Control! s50, Type s20, X i2, Y i2, Width i2, Height i2, Attributes I4, Property S50, "
    "Text L0, Control_Next S50, Help L50",
    "ControlCondition": "Dialog_! s72, Control_! s50, Action! s50, Condition! s255",
    "ControlEvent": "Dialog_! s72, Control_! s50, Event! s50, Argument! s255, Condition! S255, Ordering I2",
    "Dialog": "Dialog! s72, HCentering i2, VCentering i2, Width i2, Height i2, Attributes I4, Title L128, "
    "Control_First s50, Control_Default S50, Control_Cancel S50",
    "DrLocator": "Signature_! s72, Parent! S72, Path! S255, Depth I2",
    "EventMapping": "Dialog_! s72, Control_! s50, Event! s50, Attribute s50",
    "Extension": "Extension! s255, Component_! s72, ProgId_ S255, MIME_ S64, Feature_ s38",
    "Font": "File_! s72, FontTitle S128",
    "IniLocator": "Signature_! s72, FileName s255, Section s96, Key s128, Field I2, Type I2",
    "IsolatedComponent": "Component_Shared! s72, Component_Application! s72",
    "ListBox": "Property! s72, Order! i2, Value s64, Text L64",
    "LockPermissions": "LockObject! s72, Table! s32, Domain! S255, User! s255, Permission I4",
    "MIME": "ContentType! s64, Extension_ s255, CLSID S38",
    "MoveFile": "FileKey! s72, Component_ s72, SourceName L255, DestName L255, SourceFolder S72, DestFolder s72, "
    "Options i2",
    "MsiAssembly": "Component_! s72, Feature_ s38, File_Manifest S72, File_Application S72, Attributes I2",
    "MsiAssemblyName": "Component_! s72, Name! s255, Value s255",
    "MsiLockPermissionsEx": "MsiLockPermissionsEx! s72, LockObject s72, Table s32, SDDLText s0, Condition S255",
    "MsiPatchMetadata": "Company! S72, Property! s72, Value l0",
    "MsiPatchSequence": "PatchFamily! s72, ProductCode! S38, Sequence s72, Attributes I4",
    "MsiServiceConfig": "MsiServiceConfig! s72, Name s255, Event i4, ConfigType i4, Argument S0, Component_ s72",
    "MsiServiceConfigFailureActions": "MsiServiceConfigFailureActions! s72, Name s255, Event i4, ResetPeriod I4, "
    "RebootMessage L255, Command L255, Actions S0,"
    " DelayActions S0, Component_ s72",
    "MsiShortcutProperty": "MsiShortcutProperty! s72, Shortcut_ s72, PropertyKey s0, PropVariantValue s0",
    "ODBCAttribute": "Driver_! s72, Attribute! s40, Value L255",
    "ODBCDataSource": "DataSource! s72, Component_ s72, Description s255, DriverDescription s255, Registration i2",
    "ODBCDriver": "Driver! s72, Component_ s72, Description s255, File_ s72, File_Setup S72",
    "ODBCSourceAttribute": "DataSource_! s72, Attribute! s32, Value L255",
    "ODBCTranslator": "Translator! s72, Component_ s72, Description s255, File_ s72, File_Setup S72",
    "PatchPackage": "PatchId! s38, Media_ i2",
    "ProgId": "ProgId! s255, ProgId_Parent S255, Class_ S38, Description L255, Icon_ S72, IconIndex I2",
    "PublishComponent": "ComponentId! s38, Qualifier! s255, Component_! s72, AppData L255, Feature_ s38",
    "RadioButton": "Property! s72, Order! i2, Value s64, X i2, Y i2, Width i2, Height i2, Text L64, Help L50",
    "RemoveIniFile": "RemoveIniFile! s72, FileName l255, DirProperty S72, Section l96, Key l128, Value L255, Action "
    "i2, Component_ s72",
    "SelfReg": "File_! s72, Cost I2",
    "Signature": "Signature! s72, FileName s255, MinVersion S20, MaxVersion S20, MinSize I4, MaxSize I4, MinDate I4, "
    "MaxDate I4, Languages S255",
    "TypeLib": "LibID! s38, Language! i2, Component_! s72, Version I4, Description L128, Directory_ S72, Feature_ "
    "s38, Cost I4",
    "UIText": "Key! s72, Text L255",
    "Verb": "Extension_! s255, Verb! s32, Sequence I2, Command L255, Argument L255",
    "_Validation": "Table! s32, Column! s32, Nullable s4, MinValue I4, MaxValue I4, KeyTable S255, KeyColumn I2, "
    "Category S32, Set S255, Description S255",
    "Upgrade": "UpgradeCode! s38, VersionMin! S20, VersionMax! S20, Language! S255, Attributes! i4, Remove S255, "
    "ActionProperty s72",
}


def columns(table: str) -> list[str]:
    """The columns of a standard table, as the writer takes them. Raises KeyError for an unknown one."""
    return [column.strip() for column in SCHEMA[table].split(",")]
