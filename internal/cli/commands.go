package cli

import "slices"

// commands is the table of all commands, in the order of the work.
func commands() []Command {
	return slices.Concat(sourceCommands(), storeCommands(), tableCommands(), ruleCommands(), planCommands(),
		runCommands(), holdCommands(), segmentCommands(), disposalCommands(), catalogCommands(), searchCommands(),
		restoreCommands(), scheduleCommands(), notificationCommands(), declaredCommands(), historyCommands(),
		loginCommands(), accountCommands(), approvalCommands(), auditCommands())
}
