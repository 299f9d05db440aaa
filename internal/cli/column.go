package cli

import (
	"fmt"

	"ambercellar/client"
)

// namesPath is where what is told of the columns of a table stands.

func columnTell(e *Env) error {
	was, added := e.Flag("was"), Get[bool](e, "added")
	if (was == "") != added {
		return fmt.Errorf("give one of -was and -added: a column had another name before, or it had none")
	}
	l, err := e.Client.TellName(e.Ctx, e.Args[0], e.Args[1], client.NewName{Name: e.Args[2], Was: was})
	if err != nil {
		return err
	}
	return e.columnNames(l)
}

func columnList(e *Env) error {
	l, err := e.Client.ColumnNames(e.Ctx, e.Args[0], e.Args[1])
	if err != nil {
		return err
	}
	return e.columnNames(l)
}

func columnForget(e *Env) error {
	l, err := e.Client.ForgetName(e.Ctx, e.Args[0], e.Args[1], client.NewName{Name: e.Args[2], Was: e.Flag("was")})
	if err != nil {
		return err
	}
	return e.columnNames(l)
}

func (e *Env) columnNames(l client.Items[client.FormerName]) error {
	rows := [][]string{}
	for _, n := range l.Items {
		was := n.Was
		if was == "" {
			was = "(it was added)"
		}
		rows = append(rows, []string{n.Name, was, At(n.ToldAt) + " by " + n.ToldBy})
	}
	return e.Show(l, []string{"column", "was called", "told"}, rows)
}
