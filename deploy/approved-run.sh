#!/bin/sh
# Plans a rule, lets a check decide, approves the plan and runs it, each under an account that may do just that:
#
#   PLANNER=… APPROVER=… deploy/approved-run.sh RULE MOST
#
# PLANNER is the token of an operator, APPROVER that of an approver: neither may do what the other does. The plan is
# approved where it takes MOST rows at the most. Otherwise it is left for people to decide, and the exit status is 3.
set -eu
rule=$1
most=$2
as() { # TOKEN COMMAND…
	token=$1
	shift
	AMBERCELLAR_TOKEN=$token ambercellar "$@"
}
field() { # of JSON, the first of that name
	sed -n "s/^ *\"$1\": \"\{0,1\}\([^\",]*\)\"\{0,1\},\{0,1\}\$/\1/p" | head -n 1
}

plan=$(as "$PLANNER" plan make "$rule" -exact -o json)
id=$(echo "$plan" | field id)
due=$(echo "$plan" | field due)
echo "plan $id takes $due rows of rule $rule"
if [ "$due" -gt "$most" ]; then
	echo "that is more than $most: people decide on it (ambercellar approval list)"
	as "$PLANNER" run start "$id" # asks for the approval, and ends with status 3
	exit 0                        # nobody has to approve it
fi
as "$APPROVER" plan approve "$id" -reason "not more than $most rows" >/dev/null
as "$PLANNER" run start "$id" -watch
