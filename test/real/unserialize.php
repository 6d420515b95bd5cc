<?php
// Reads values as lines of Base64; answers for each whether PHP's own unserialize accepts it. For tests only.
while ( ( $line = fgets( STDIN ) ) !== false ) {
	$value = base64_decode( rtrim( $line ) );
	$read = @unserialize( $value, array( 'allowed_classes' => false ) );
	echo ( $read !== false || $value === 'b:0;' ) ? "yes\n" : "no\n";
}
