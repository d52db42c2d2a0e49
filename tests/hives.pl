# Registry hives by another reader and writer (libhivex).
#   hives.pl dump FILE          a line for each key and value, bytes as hex
#   hives.pl fill EMPTY FILE    reads such lines, puts them into a copy of an empty hive
use strict; use warnings; use Win::Hivex; use Encode;
my ($verb, $from, $to) = @ARGV;
if ($verb eq "dump") {
    my $hive = Win::Hivex->open($from);
    my @waiting = (["", $hive->root]);
    while (my $next = pop @waiting) {
        my ($path, $node) = @$next;
        print join("\t", "key", unpack("H*", encode("UTF-8", $path))), "\n";
        for my $value ($hive->node_values($node)) {
            my ($kind, $data) = $hive->value_value($value);
            my $name = $hive->value_key($value);
            print join("\t", "value", unpack("H*", encode("UTF-8", $path)), unpack("H*", encode("UTF-8", $name)), $kind, unpack("H*", $data)), "\n";
        }
        push @waiting, [$path . "\\" . $hive->node_name($_), $_] for $hive->node_children($node);
    }
} else {
    my $hive = Win::Hivex->open($from, write => 1);
    my %nodes = ("" => $hive->root);
    my %values;
    while (my $line = <STDIN>) {
        chomp $line;
        my ($sort, $path, @more) = split /\t/, $line, -1;
        $path = decode("UTF-8", pack("H*", $path));
        if ($sort eq "key" && $path ne "") {
            my ($above, $name) = $path =~ /^(.*)\\([^\\]*)$/s;
            $nodes{$path} = $hive->node_add_child($nodes{$above}, $name);
        } elsif ($sort eq "value") {
            push @{$values{$path}}, { key => decode("UTF-8", pack("H*", $more[0])), t => $more[1], value => pack("H*", $more[2]) };
        }
    }
    $hive->node_set_values($nodes{$_}, $values{$_}) for keys %values;
    $hive->commit($to);
}
