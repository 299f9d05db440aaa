package shelf

// KeysAtOnce is how many keys are looked up in one statement.
const KeysAtOnce = 500
