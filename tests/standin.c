/* A stand-in for an installer: "exit N" leaves with N, "sleep N" waits N seconds first. Writes its command line to C:\standin.log and says what the driver program would;
   where it is asked for something (/get-...), what C:\answer.txt says. */
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

static int has(const char *line, const char *word)
{
    int length = lstrlenA(word);
    for (; lstrlenA(line) >= length; line++)
        if (CompareStringA(LOCALE_INVARIANT, 0, line, length, word, length) == CSTR_EQUAL)
            return 1;
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
    if (has(line, "/get-")) {
        static char text[16384];
        HANDLE answer = CreateFileA("C:\\answer.txt", GENERIC_READ, FILE_SHARE_READ, NULL, OPEN_EXISTING, 0, NULL);
        if (answer != INVALID_HANDLE_VALUE && ReadFile(answer, text, sizeof text, &done, NULL))
            WriteFile(GetStdHandle(STD_OUTPUT_HANDLE), text, done, &done, NULL);
    } else
        WriteFile(GetStdHandle(STD_OUTPUT_HANDLE), "Published name: oem1.inf\r\n", 26, &done, NULL);
    if (has(line, "/run /tn")) {
        STARTUPINFOA how;
        PROCESS_INFORMATION ran;
        char *at = (char *)&how;
        for (unsigned i = 0; i < sizeof how; i++)
            at[i] = 0;
        how.cb = sizeof how;
        char task[] = "cmd.exe /d /c \"C:\\Program Files\\Yendo\\state\\tide\\person.cmd\"";
        CreateProcessA(NULL, task, NULL, NULL, FALSE, 0, NULL, NULL, &how, &ran);
    }
    Sleep(1000 * number_after(line, "sleep "));
    ExitProcess(number_after(line, "exit "));
}
