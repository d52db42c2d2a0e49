/* Lantern for macOS, as far as the demonstration needs it: says its version, or what the office has set. */
typedef unsigned long size_t;
extern long write(int, const void *, size_t);
extern int strcmp(const char *, const char *);

static void say(const char *text) {
    size_t length = 0;
    while (text[length])
        length++;
    write(1, text, length);
}

int main(int count, char **arguments) {
    if (count > 1 && strcmp(arguments[1], "--sync") == 0) {
        say("nothing to bring in\n");
        return 0;
    }
    say("Lantern 6.2.1\n");
    return 0;
}
