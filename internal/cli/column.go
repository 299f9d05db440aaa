package cli

import (
	"fmt"
	"net/url"

	"ambercellar/internal/api"
	"ambercellar/internal/catalog"
	"ambercellar/internal/client"
)

// namesPath is where what is told of the columns of a table stands.
func (e *env) namesPath() string {
	return "/sources/" + url.PathEscape(e.args[0]) + "/tables/" + url.PathEscape(e.args[1]) + "/names"
}

func columnTell(e *env) error {
	was, added := e.flag("was"), e.flag("added") == "true"
	if (was == "") != added {
		return fmt.Errorf("give one of -was and -added: a column had another name before, or it had none")
	}
	l, err := client.Post[api.Items[catalog.FormerName]](e.ctx, e.client, e.namesPath(), api.NewName{Name: e.args[2], Was: was})
	if err != nil {
		return err
	}
	return e.columnNames(l)
}

func columnList(e *env) error {
	l, err := client.Get[api.Items[catalog.FormerName]](e.ctx, e.client, e.namesPath())
	if err != nil {
		return err
	}
	return e.columnNames(l)
}

func columnForget(e *env) error {
	l, err := client.Post[api.Items[catalog.FormerName]](e.ctx, e.client, e.namesPath()+"/forget", api.NewName{Name: e.args[2], Was: e.flag("was")})
	if err != nil {
		return err
	}
	return e.columnNames(l)
}

func (e *env) columnNames(l api.Items[catalog.FormerName]) error {
	rows := [][]string{}
	for _, n := range l.Items {
		was := n.Was
		if was == "" {
			was = "(it was added)"
		}
		rows = append(rows, []string{n.Name, was, at(n.ToldAt) + " by " + n.ToldBy})
	}
	return e.show(l, []string{"column", "was called", "told"}, rows)
}
