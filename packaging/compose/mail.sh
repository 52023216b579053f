#!/bin/sh
# Writes the configuration of the mail server at each start, and starts it.
set -eu
kind=internet
[ -z "${SMARTHOST:-}" ] || kind=smarthost
cat > /etc/exim4/update-exim4.conf.conf <<CONFIGURATION
dc_eximconfig_configtype='$kind'
dc_other_hostnames=''
dc_local_interfaces='0.0.0.0'
dc_readhost=''
dc_relay_domains=''
dc_minimaldns='false'
dc_relay_nets='10.0.0.0/8:172.16.0.0/12:192.168.0.0/16'
dc_smarthost='${SMARTHOST:-}'
CFILEMODE='644'
dc_use_split_config='false'
dc_hide_mailname='true'
dc_mailname_in_oh='true'
dc_localdelivery='maildir_home'
CONFIGURATION
update-exim4.conf
exec exim4 -bdf -q5m
