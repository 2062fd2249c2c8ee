package password

import (
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// check is PHP that takes a password and a hash as the systems' own code does, and prints
// yes or no. The portable scheme is written down once more, from its description.
const check = `
function portable($p, $setting) {
	$digits = './0123456789ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz';
	$count = 1 << strpos($digits, $setting[3]); $salt = substr($setting, 4, 8);
	$hash = hash('sha512', $salt . $p, true);
	do { $hash = hash('sha512', $hash . $p, true); } while (--$count);
	$out = ''; $i = 0; $n = strlen($hash);
	do {
		$value = ord($hash[$i++]); $out .= $digits[$value & 0x3f];
		if ($i < $n) $value |= ord($hash[$i]) << 8;
		$out .= $digits[($value >> 6) & 0x3f];
		if ($i++ >= $n) break;
		if ($i < $n) $value |= ord($hash[$i]) << 16;
		$out .= $digits[($value >> 12) & 0x3f];
		if ($i++ >= $n) break;
		$out .= $digits[($value >> 18) & 0x3f];
	} while ($i < $n);
	return substr(substr($setting, 0, 12) . $out, 0, 55);
}
[, $scheme, $p, $h] = $argv;
switch ($scheme) {
case 'bcrypt': $ok = password_verify($p, $h); break;
case 'wordpress': $ok = str_starts_with($h, '$wp') && password_verify(base64_encode(hash_hmac('sha384', trim($p), 'wp-sha384', true)), substr($h, 3)); break;
case 'drupal': $ok = portable($p, $h) === $h; break;
case 'mediawiki': [, $type, $algo, $rounds, $length, $salt, $hash] = explode(':', $h);
	$ok = $type === 'pbkdf2' && hash_pbkdf2($algo, $p, base64_decode($salt), (int)$rounds, (int)$length, true) === base64_decode($hash); break;
}
echo $ok ? 'yes' : 'no';`

func TestPHPTakesEveryHash(t *testing.T) {
	t.Parallel()
	if _, err := exec.LookPath("php"); err != nil {
		t.Skip("PHP is not installed")
	}
	for _, scheme := range Schemes {
		for _, plain := range []string{"größer'\\\"$1%s\u00a0ist", strings.Repeat("x", Longest)} {
			hash, err := Hash(scheme, plain)
			require.NoError(t, err, scheme)
			again, err := Hash(scheme, plain)
			require.NoError(t, err, scheme)
			assert.NotEqual(t, hash, again, "each has a salt of its own")
			for given, want := range map[string]string{plain: "yes", plain[:len(plain)-1]: "no"} {
				out, err := exec.Command("php", "-r", check, "--", scheme, given, hash).CombinedOutput()
				require.NoError(t, err, string(out))
				assert.Equal(t, want, string(out), "%s: %q against %s", scheme, given, hash)
			}
		}
	}
}

func TestPasswordsThatAreRefused(t *testing.T) {
	for plain, why := range map[string]string{
		"": "short", "lighthous": "short", strings.Repeat("x", Longest+1): "longer", "a password\n": "type", "a \x00 password": "type",
		"a \xff password": "type", " a password": "space", "a password ": "space",
	} {
		for _, scheme := range Schemes {
			hash, err := Hash(scheme, plain)
			assert.ErrorContains(t, err, why, "%q", plain)
			assert.Empty(t, hash)
		}
	}
	_, err := Hash("rot13", "a good password")
	assert.ErrorContains(t, err, "no scheme")
}
