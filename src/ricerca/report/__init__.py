"""How figures and findings are said: words, JSON, tables, texts, exports."""
