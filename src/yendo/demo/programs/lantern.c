/* Lantern, the sounding software of the invented vendor Tidewell: a program that does as little as it can.
 *
 * As "lantern.exe" it prints its version and leaves; "--self-test" looks for its chart list and leaves
 * with 0, or 2 where it is missing. As "lanternd.exe" it is a real service that waits to be stopped.
 * Built without a C library, so that it is small and the same bytes everywhere. */
#include <windows.h>

#ifndef VERSION
#define VERSION "6.2.1"
#endif

static void say(const char *text)
{
    DWORD done;
    WriteFile(GetStdHandle(STD_OUTPUT_HANDLE), text, lstrlenA(text), &done, NULL);
}

#ifdef SERVICE
static SERVICE_STATUS_HANDLE handle;
static HANDLE stop;

static void report(DWORD state)
{
    SERVICE_STATUS status = { SERVICE_WIN32_OWN_PROCESS, state, SERVICE_ACCEPT_STOP, 0, 0, 0, 0 };
    SetServiceStatus(handle, &status);
}

static DWORD WINAPI control(DWORD code, DWORD type, void *data, void *context)
{
    (void)type; (void)data; (void)context;
    if (code == SERVICE_CONTROL_STOP || code == SERVICE_CONTROL_SHUTDOWN)
        SetEvent(stop);
    return NO_ERROR;
}

static void WINAPI serve(DWORD count, char **words)
{
    (void)count; (void)words;
    handle = RegisterServiceCtrlHandlerExA("LanternTide", control, NULL);
    stop = CreateEventA(NULL, TRUE, FALSE, NULL);
    report(SERVICE_RUNNING);
    WaitForSingleObject(stop, INFINITE);
    report(SERVICE_STOPPED);
}

void start(void)
{
    SERVICE_TABLE_ENTRYA table[] = { { "LanternTide", serve }, { NULL, NULL } };
    if (!StartServiceCtrlDispatcherA(table))
        say("Lantern tide service " VERSION ": started by the service manager only\r\n");
    ExitProcess(0);
}
#else
static int has(const char *line, const char *word)
{
    int length = lstrlenA(word);
    for (; *line; line++)
        if (CompareStringA(LOCALE_INVARIANT, 0, line, lstrlenA(line) < length ? lstrlenA(line) : length, word, length) == CSTR_EQUAL)
            return 1;
    return 0;
}

void start(void)
{
    char path[MAX_PATH + 16];
    int at;
    if (has(GetCommandLineA(), "--self-test")) {
        at = GetModuleFileNameA(NULL, path, MAX_PATH);
        while (at > 0 && path[at - 1] != '\\')
            at--;
        lstrcpyA(path + at, "charts.lst");
        ExitProcess(GetFileAttributesA(path) == INVALID_FILE_ATTRIBUTES ? 2 : 0);
    }
    say("Lantern " VERSION "\r\n");
    ExitProcess(0);
}
#endif
