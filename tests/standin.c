/* A stand-in for an installer: "exit N" leaves with N, "sleep N" waits N seconds first. Writes its command line to C:\standin.log. */
#include <windows.h>

static int number_after(const char *line, const char *word)
{
    int length = lstrlenA(word), value = 0;
    for (; lstrlenA(line) >= length; line++)
        if (CompareStringA(LOCALE_INVARIANT, 0, line, length, word, length) == CSTR_EQUAL) {
            for (line += length; *line >= '0' && *line <= '9'; line++)
                value = value * 10 + (*line - '0');
            return value;
        }
    return 0;
}

void start(void)
{
    DWORD done;
    const char *line = GetCommandLineA();
    HANDLE log = CreateFileA("C:\\standin.log", FILE_APPEND_DATA, FILE_SHARE_READ, NULL, OPEN_ALWAYS, 0, NULL);
    WriteFile(log, line, lstrlenA(line), &done, NULL);
    WriteFile(log, "\r\n", 2, &done, NULL);
    CloseHandle(log);
    Sleep(1000 * number_after(line, "sleep "));
    ExitProcess(number_after(line, "exit "));
}
