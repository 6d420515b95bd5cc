<?php
// Makes a network of an installation of the CMS, and a second site in it, through its own functions. For tests only.
[ , $root, $host, $step ] = $argv;
$_SERVER['HTTP_HOST'] = $host;
$_SERVER['REQUEST_URI'] = '/';
$_SERVER['HTTPS'] = 'on';
$_SERVER['REMOTE_ADDR'] = '127.0.0.1';
if ( 'tables' === $step ) { define( 'WP_INSTALLING_NETWORK', true ); }
require $root . '/wp-load.php';
function no_mail() { return true; }
add_filter( 'pre_wp_mail', 'no_mail' );
require_once ABSPATH . 'wp-admin/includes/upgrade.php';
if ( 'tables' === $step ) {
	foreach ( $wpdb->tables( 'ms_global' ) as $table => $name ) { $wpdb->$table = $name; }
	install_network();
	$made = populate_network( 1, $host, 'secretary@club.saltmarsh.example', 'Saltmarsh clubs', '/', false );
	if ( is_wp_error( $made ) ) { exit( $made->get_error_message() ); }
} else {
	$id = wpmu_create_blog( $host, '/juniors/', 'Juniors', 1 );
	if ( is_wp_error( $id ) ) { exit( $id->get_error_message() ); }
	switch_to_blog( $id );
	update_option( 'permalink_structure', '/%postname%/' );
	wp_insert_post( array( 'post_title' => 'Regatta', 'post_status' => 'publish', 'post_content' => "<p><a href=\"https://$host/juniors/\">All news</a> and <a href=\"https://$host/\">the club</a></p>" ) );
}
echo "made\n";
