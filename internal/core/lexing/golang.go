package lexing

import (
	"go/scanner"
	"go/token"
	"strings"

	"github.com/alecthomas/chroma/v2"
)

// constants and predeclared are names that Go knows without a declaration.
var (
	constants   = map[string]bool{"true": true, "false": true, "nil": true, "iota": true}
	predeclared = map[string]bool{"any": true, "bool": true, "byte": true, "comparable": true, "complex64": true,
		"complex128": true, "error": true, "float32": true, "float64": true, "int": true, "int8": true, "int16": true,
		"int32": true, "int64": true, "rune": true, "string": true, "uint": true, "uint8": true, "uint16": true,
		"uint32": true, "uint64": true, "uintptr": true}
)

// goTokens cuts Go source into tokens, even if it does not parse.
func goTokens(text string) (out []chroma.Token) {
	var s scanner.Scanner
	src := []byte(text)
	file := token.NewFileSet().AddFile("", -1, len(src))
	s.Init(file, src, func(token.Position, string) {}, scanner.ScanComments)
	put := func(kind chroma.TokenType, from, to int) {
		if from < to {
			out = append(out, chroma.Token{Type: kind, Value: text[from:to]})
		}
	}
	at, kind := 0, chroma.TokenType(chroma.Text) // where the pending token begins, and its type
	for {
		pos, tok, lit := s.Scan()
		if tok == token.SEMICOLON && lit != ";" && lit != "" { // a semicolon that the scanner inserted
			continue
		}
		next := file.Offset(pos)
		if tok == token.EOF {
			next = len(text)
		}
		end := at + len(strings.TrimRight(text[at:next], " \t\r\n"))
		if tok == token.LPAREN && kind == chroma.NameOther && end == next {
			kind = chroma.NameFunction
		}
		put(kind, at, end)
		put(chroma.Text, end, next)
		if tok == token.EOF {
			return out
		}
		at, kind = next, kindOf(tok, lit)
	}
}

func kindOf(tok token.Token, lit string) chroma.TokenType {
	switch {
	case tok == token.COMMENT:
		return chroma.CommentSingle
	case tok == token.STRING:
		return chroma.LiteralString
	case tok == token.CHAR:
		return chroma.LiteralStringChar
	case tok == token.INT || tok == token.FLOAT || tok == token.IMAG:
		return chroma.LiteralNumber
	case tok == token.IDENT && constants[lit]:
		return chroma.KeywordConstant
	case tok == token.IDENT && predeclared[lit]:
		return chroma.KeywordType
	case tok == token.IDENT:
		return chroma.NameOther
	case tok.IsKeyword():
		return chroma.Keyword
	case tok.IsOperator():
		return chroma.Operator
	}
	return chroma.Error
}
