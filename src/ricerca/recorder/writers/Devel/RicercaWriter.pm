# Writes what a Perl program does as lines of JSON: calls and returns of subroutines, with names once. Perl 5.14 on, by its debugger's
# hooks (perldebguts); loaded by PERL5OPT, which the program finds as it would be.
package DB;  # what is called from this package is not told to the debugger's hooks, so that the writer does not write of itself
use strict;
use warnings;

our $sub;
my ($file, $own_pid, $known, $origin, %numbers);
BEGIN { ($own_pid, $known) = ($$, 0) }

sub ricerca_now {
    my $now = Time::HiRes::clock_gettime(1);  # CLOCK_MONOTONIC
    $origin //= $now;
    return sprintf("%.0f", ($now - $origin) * 1e9);
}

sub ricerca_quoted {
    my ($text) = @_;
    $text =~ s/([\\"])/\\$1/g;
    $text =~ s/([\x00-\x1f])/sprintf("\\u%04x", ord($1))/ge;
    return qq("$text");
}

sub ricerca_number {
    my ($key, $name) = @_;
    my ($source, $line) = ("", 0);
    if (ref $key) {  # called by reference: its name and place are asked of the code itself
        my $code = B::svref_2object($key);
        my $first = $code->START;
        $name = $code->GV->STASH->NAME . "::" . $code->GV->NAME;
        ($source, $line) = ($code->FILE // "", $first->can("line") ? $first->line : 0);
        $name = "main::anonymous at line $line" if $name =~ /::__ANON__/;
        my $same = "$name $source $line";
        return $numbers{$key} = $numbers{$same} if $numbers{$same};
        $numbers{$same} = $known + 1;
    }
    elsif (($DB::sub{$name} // "") =~ /^(.*):(\d+)-\d+$/) {
        ($source, $line) = ($1, $2);
    }
    my ($module, $plain) = $name =~ /^(.*)::(.*)$/s ? ($1, $2) : ("", $name);
    print {$file} sprintf(qq({"name":%d,"function":%s,"module":%s,"file":%s,"first_line":%d,"kind":"%s"}\n),
        ++$known, ricerca_quoted($plain), ricerca_quoted($module), ricerca_quoted($source), $line, length($source) ? "function" : "builtin");
    return $numbers{$key} = $known;
}

sub DB { }

sub sub {
    my $called = $sub;
    no strict 'refs';
    return &$called if !$file || $$ != $own_pid;
    my $number = $numbers{$called} // ricerca_number($called, $called);
    my $line = (caller(0))[2] // 0;
    print {$file} qq({"enter":$number,"at":), ricerca_now(), qq(,"line":$line}\n);
    if (wantarray) {
        my @found = &$called;
        print {$file} qq({"leave":$number,"at":), ricerca_now(), "}\n" if $file;
        return @found;
    }
    if (defined wantarray) {
        my $found = &$called;
        print {$file} qq({"leave":$number,"at":), ricerca_now(), "}\n" if $file;
        return $found;
    }
    &$called;
    print {$file} qq({"leave":$number,"at":), ricerca_now(), "}\n" if $file;
    return;
}

sub ricerca_end {
    if ($file && $$ == $own_pid) {
        print {$file} qq({"end":), ricerca_now(), "}\n";
        close($file);
    }
    undef $file;
}

package Devel::RicercaWriter;

BEGIN {
    require Time::HiRes;
    require B;
    my $path = delete $ENV{RICERCA_EVENTS};
    for my $name (qw(PERL5OPT PERL5LIB)) {
        my $before = delete $ENV{"RICERCA_$name"};
        if (length($before // "")) { $ENV{$name} = $before } else { delete $ENV{$name} }
    }
    if (defined $path && open(my $opened, ">", $path)) {
        my @words = map { DB::ricerca_quoted($_) } ($0, @ARGV);
        print {$opened} sprintf(qq({"ricerca":"events","version":1,"language":"Perl","program":[%s],"body":%s,"pid":%d,"start_unix_ns":%.0f}\n),
            join(",", @words), $words[0], $$, Time::HiRes::time() * 1e9);
        $file = $opened;
    }
    $^P = 0x01 | 0x10 | 0x100 | 0x200;  # subroutines, where they lie, and names for those without
}

END { package DB; ricerca_end() }

1;
