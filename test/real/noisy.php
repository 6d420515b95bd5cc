<?php
// Gives the seeded CMS two extensions whose output is another one each time, and more entries. For tests only.
[ , $root, $url, $entries ] = $argv;
$_SERVER['HTTPS'] = 'on';
$_SERVER['HTTP_HOST'] = parse_url( $url, PHP_URL_HOST );
$_SERVER['REQUEST_URI'] = parse_url( $url, PHP_URL_PATH ) . '/';
require $root . '/wp-load.php';
$plugins = WP_CONTENT_DIR . '/plugins';
@mkdir( "$plugins/creek-nonces" );
file_put_contents( "$plugins/creek-nonces/creek-nonces.php", <<<'PHP'
<?php
/* Plugin Name: Creek nonces */
add_action( 'wp_head', function () {
	$nonce = bin2hex( random_bytes( 8 ) );
	header( "X-Request-Id: $nonce" );
	echo "<script nonce=\"$nonce\">var creek = { token: '$nonce', time: " . microtime( true ) . ", ajax: '" . str_replace( '/', '\\/', admin_url( 'admin-ajax.php' ) ) . "' };</script>\n";
}, 1 );
add_action( 'wp_footer', function () {
	echo '<form action="' . esc_url( home_url( '/' ) ) . '" method="post"><input type="hidden" name="creek" value="' . bin2hex( random_bytes( 8 ) ) . '"></form>';
	echo '<p>Page ' . bin2hex( random_bytes( 4 ) ) . ' made in ' . microtime( true ) . ' seconds.</p>';
} );
PHP
);
@mkdir( "$plugins/creek-hosts" );
file_put_contents( "$plugins/creek-hosts/creek-hosts.php", <<<'PHP'
<?php
/* Plugin Name: Creek hosts */
add_filter( 'the_content', function ( $html ) {
	$host = 'i' . random_int( 0, 999 ) . '.pictures.example';
	$sayings = array( 'Row!', 'Mind the ebb', 'Ahoy there, all of you', 'Feather your blades' );
	$html .= '<img src="' . content_url( 'uploads/boat.png' ) . '" alt=""><img src="' . content_url( 'uploads/crew.jpg' ) . '" alt="">';
	return $html . "<p><img src=\"https://$host/pixel.png?cb=" . random_int( 1, 1 << 30 ) . "\" alt=\"\"> " . $sayings[ array_rand( $sayings ) ] . '</p>';
} );
PHP
);
update_option( 'active_plugins', array( 'creek-hosts/creek-hosts.php', 'creek-nonces/creek-nonces.php' ) );
$image = imagecreatetruecolor( 60, 40 );
imagefill( $image, 0, 0, imagecolorallocate( $image, 30, 90, 120 ) );
imagepng( $image, WP_CONTENT_DIR . '/uploads/boat.png' );
imagejpeg( $image, WP_CONTENT_DIR . '/uploads/crew.jpg' );
wp_suspend_cache_addition( true );
wp_defer_term_counting( true );
for ( $n = 1; $n <= $entries; $n++ ) {
	wp_insert_post( wp_slash( array(
		'post_title'   => "Outing number $n",
		'post_status'  => 'publish',
		'post_type'    => $n % 5 ? 'post' : 'page',
		'post_date'    => gmdate( 'Y-m-d H:i:s', 1700000000 + $n * 3600 ),
		'post_content' => "<p>Crew $n met at the boathouse. <a href=\"$url/outing-number-" . max( 1, $n - 1 ) . "/\">Before</a> <img src=\"$url/wp-content/uploads/boat.png\" alt=\"\"><img src=\"$url/wp-content/uploads/crew.jpg\" alt=\"\"></p>",
	) ) );
}
wp_defer_term_counting( false );
echo "noisy\n";
