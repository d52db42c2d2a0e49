"""The columns of the standard tables, in the notation of table text files; ``!`` marks the key.

Source: the Windows Installer's documentation of each table. A database carries its own schema, so
this one serves writing only.
"""

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
    "Feature": "Feature! s38, Feature_Parent S38, Title L64, Description L255, Display I2, Level i2, Directory_ S72, Attributes i2",
    "FeatureComponents": "Feature_! s38, Component_! s72",
    "File": "File! s72, Component_ s72, FileName l255, FileSize i4, Version S72, Language S20, Attributes I2, Sequence i4",
    "Icon": "Name! s72, Data v0",
    "IniFile": "IniFile! s72, FileName l255, DirProperty S72, Section l96, Key l128, Value l255, Action i2, Component_ s72",
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
    "Shortcut": "Shortcut! s72, Directory_ s72, Name l128, Component_ s72, Target s72, Arguments S255, Description L255,"
    " Hotkey I2, Icon_ S72, IconIndex I2, ShowCmd I2, WkDir S72",
    "Upgrade": "UpgradeCode! s38, VersionMin! S20, VersionMax! S20, Language! S255, Attributes! i4, Remove S255, ActionProperty s72",
}


def columns(table: str) -> list[str]:
    """The columns of a standard table, as the writer takes them. Raises KeyError for an unknown one."""
    return [column.strip() for column in SCHEMA[table].split(",")]
