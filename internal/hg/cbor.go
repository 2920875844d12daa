package hg

import "errors"

// errCBOR reports a text that is not the form of CBOR that hg writes.
var errCBOR = errors.New("it is not as hg writes it")

// cborLists reads a map of texts to lists of texts. Other values are passed over.
func cborLists(data string) (map[string][]string, error) {
	d := &cbor{rest: data}
	kind, n, err := d.head()
	if err != nil || kind != 5 {
		return nil, errors.Join(errCBOR, err)
	}
	out := map[string][]string{}
	for range n {
		key, err := d.text()
		if err != nil {
			return nil, err
		}
		if kind, _, _ := (&cbor{rest: d.rest}).head(); kind != 4 {
			if err := d.pass(0); err != nil {
				return nil, err
			}
			continue
		}
		_, m, err := d.head()
		if err != nil {
			return nil, err
		}
		for range m {
			text, err := d.text()
			if err != nil {
				return nil, err
			}
			out[key] = append(out[key], text)
		}
	}
	return out, nil
}

// cbor reads items of definite length.
type cbor struct{ rest string }

// head reads the kind of the next item, and its number or length.
func (d *cbor) head() (kind byte, n int, err error) {
	if d.rest == "" {
		return 0, 0, errCBOR
	}
	c := d.rest[0]
	d.rest = d.rest[1:]
	kind, n = c>>5, int(c&31)
	if n < 24 {
		return kind, n, nil
	}
	if n > 26 {
		return 0, 0, errCBOR
	}
	size := 1 << (n - 24)
	if len(d.rest) < size {
		return 0, 0, errCBOR
	}
	n = 0
	for range size {
		n, d.rest = n<<8|int(d.rest[0]), d.rest[1:]
	}
	return kind, n, nil
}

// text reads a text or bytes.
func (d *cbor) text() (string, error) {
	kind, n, err := d.head()
	if err != nil || kind != 2 && kind != 3 || n > len(d.rest) {
		return "", errors.Join(errCBOR, err)
	}
	text := d.rest[:n]
	d.rest = d.rest[n:]
	return text, nil
}

// pass passes over an item.
func (d *cbor) pass(deep int) error {
	kind, n, err := d.head()
	switch {
	case err != nil || deep > 20:
		return errors.Join(errCBOR, err)
	case kind == 2 || kind == 3:
		if n > len(d.rest) {
			return errCBOR
		}
		d.rest = d.rest[n:]
		return nil
	case kind == 5:
		n *= 2
	case kind != 4:
		return nil
	}
	for range n {
		if err := d.pass(deep + 1); err != nil {
			return err
		}
	}
	return nil
}
