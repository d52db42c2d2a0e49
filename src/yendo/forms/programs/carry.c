/* What a database with a package inside calls: starts the package's runner and tells the installer how it ended.

   A custom action fails on every exit code but 0, and one that is deferred cannot ask for a restart. So a code that
   wants one is success here, and leaves a mark in the registry that goes with the next start; an immediate action at
   the end finds it, takes it away and asks. */
#define UNICODE
#include <windows.h>
#include <msi.h>
#include <msiquery.h>

#define MOST 8192
#define MARKS L"Software\\Yendo restart"

static WCHAR data[MOST], line[MOST + 64], text[MOST + 128];

BOOL WINAPI start(HINSTANCE instance, DWORD reason, LPVOID reserved)
{
    (void)instance;
    (void)reason;
    (void)reserved;
    return TRUE;
}

static void say(MSIHANDLE session, const WCHAR *words, int code)
{
    MSIHANDLE record = MsiCreateRecord(1);
    wsprintfW(text, L"%s: %d", words, code);
    MsiRecordSetStringW(record, 0, text);
    MsiProcessMessage(session, INSTALLMESSAGE_INFO, record);
    MsiCloseHandle(record);
}

/* Runs a command line to its end; gives its code. */
static DWORD run(MSIHANDLE session, const WCHAR *command)
{
    DWORD code = ERROR_INSTALL_FAILURE;
    STARTUPINFOW how;
    PROCESS_INFORMATION ran;
    char *at = (char *)&how;

    for (unsigned i = 0; i < sizeof how; i++)
        at[i] = 0;
    how.cb = sizeof how;
    lstrcpyW(line, command);
    if (!CreateProcessW(NULL, line, NULL, NULL, FALSE, CREATE_NO_WINDOW, NULL, NULL, &how, &ran)) {
        say(session, L"the package's runner could not be started", GetLastError());
        return code;
    }
    WaitForSingleObject(ran.hProcess, INFINITE);
    GetExitCodeProcess(ran.hProcess, &code);
    CloseHandle(ran.hThread);
    CloseHandle(ran.hProcess);
    say(session, L"the package's runner ended with", code);
    return code;
}

static WCHAR *behind(WCHAR *text)
{
    while (*text && *text != L'|')
        text++;
    if (*text)
        *text++ = 0;
    return text;
}

/* The deferred action. Its data: the product's code, the line that takes back what was done where it fails (or
   nothing), and the line that does it; with bars between. */
UINT WINAPI Carry(MSIHANDLE session)
{
    DWORD size = MOST, code;
    WCHAR *back, *command, *at;
    HKEY key;

    if (MsiGetPropertyW(session, L"CustomActionData", data, &size) != ERROR_SUCCESS)
        return ERROR_INSTALL_FAILURE;
    back = behind(data);
    command = behind(back);
    if (!*command)
        return ERROR_INSTALL_FAILURE;
    /* six quotation marks are ours, and two more stand round settings: any other comes from a value, and would end it */
    for (code = 0, at = command; *at; at++)
        code += *at == L'"';
    if (code != 6 && code != 8) {
        say(session, L"a setting holds a quotation mark", code);
        return ERROR_INSTALL_FAILURE;
    }
    code = run(session, command);
    if (code != 0 && code != 3010 && code != 1641) {
        if (*back)
            run(session, back);
        return ERROR_INSTALL_FAILURE;
    }
    if (code == 3010 && RegCreateKeyExW(HKEY_LOCAL_MACHINE, MARKS, 0, NULL, REG_OPTION_VOLATILE,
                                        KEY_WRITE | KEY_WOW64_64KEY, NULL, &key, NULL) == ERROR_SUCCESS) {
        RegSetValueExW(key, data, 0, REG_SZ, (const BYTE *)L"", sizeof(WCHAR));
        RegCloseKey(key);
    }
    return ERROR_SUCCESS;
}

/* The immediate action behind the installation. */
UINT WINAPI Restart(MSIHANDLE session)
{
    DWORD size = MOST, others = 1;
    HKEY key;

    if (MsiGetPropertyW(session, L"ProductCode", data, &size) != ERROR_SUCCESS
        || RegOpenKeyExW(HKEY_LOCAL_MACHINE, MARKS, 0, KEY_READ | KEY_WOW64_64KEY, &key) != ERROR_SUCCESS)
        return ERROR_SUCCESS;
    if (RegQueryValueExW(key, data, NULL, NULL, NULL, NULL) == ERROR_SUCCESS)
        MsiSetMode(session, MSIRUNMODE_REBOOTATEND, TRUE);
    RegCloseKey(key);
    if (RegOpenKeyExW(HKEY_LOCAL_MACHINE, MARKS, 0, KEY_READ | KEY_WRITE | KEY_WOW64_64KEY, &key) == ERROR_SUCCESS) {
        RegDeleteValueW(key, data);
        RegQueryInfoKeyW(key, NULL, NULL, NULL, NULL, NULL, NULL, &others, NULL, NULL, NULL, NULL);
        RegCloseKey(key);
        if (!others)
            RegDeleteKeyExW(HKEY_LOCAL_MACHINE, MARKS, KEY_WOW64_64KEY, 0);
    }
    return ERROR_SUCCESS;
}
