# Reads and writes messages of mail (S/MIME), for a check of what another program wrote.
use strict;
use warnings;
use Crypt::SMIME;

sub slurp { my $f = shift; open my $h, '<:raw', $f or die "$f: $!"; local $/; my $t = <$h>; return $t; }

my ($what, $key, $certificate, $root, $message) = @ARGV;
my $mail = Crypt::SMIME->new;
$mail->setPrivateKey(slurp($key), slurp($certificate)) if $key ne '-';
if ($what eq 'decrypt') {
    print $mail->decrypt(slurp($message));
} elsif ($what eq 'check') {
    $mail->setPublicKey([slurp($root)]);
    $mail->setAtTime(time);
    print $mail->check(slurp($message), Crypt::SMIME::NO_CHECK_CERTIFICATE());
} elsif ($what eq 'encrypt') {
    $mail->setPublicKey([slurp($certificate)]);
    print $mail->encrypt(slurp($message));
} elsif ($what eq 'sign') {
    print $mail->signonly(slurp($message));
}
