//! Characters with their columns; the few lexical forms of the language.

/// Reads a query's text from left to right.
pub(super) struct Scan {
    chars: Vec<char>,
    /// Index of the next character; the column is one more.
    pub at: usize,
}

impl Scan {
    pub fn new(text: &str) -> Self {
        Scan { chars: text.chars().collect(), at: 0 }
    }

    /// How many characters the text has.
    pub fn length(&self) -> usize {
        self.chars.len()
    }

    pub fn peek(&self) -> Option<char> {
        self.chars.get(self.at).copied()
    }

    pub fn peek_at(&self, ahead: usize) -> Option<char> {
        self.chars.get(self.at + ahead).copied()
    }

    pub fn done(&self) -> bool {
        self.at >= self.chars.len()
    }

    pub fn slice(&self, from: usize, to: usize) -> String {
        self.chars.get(from..to).map_or_else(String::new, |c| c.iter().collect())
    }

    pub fn blanks(&mut self) {
        while self.peek().is_some_and(char::is_whitespace) {
            self.at += 1;
        }
    }

    /// Takes `c` if it is next.
    pub fn take(&mut self, c: char) -> bool {
        let is = self.peek() == Some(c);
        self.at += usize::from(is);
        is
    }

    /// The comparison sign at the cursor, not taken.
    pub fn sign(&self) -> Option<&'static str> {
        let pair = (self.peek()?, self.peek_at(1));
        Some(match pair {
            ('!', Some('=')) => "!=",
            ('<', Some('=')) => "<=",
            ('>', Some('=')) => ">=",
            ('^', Some('=')) => "^=",
            ('$', Some('=')) => "$=",
            ('*', Some('=')) => "*=",
            ('=', _) => "=",
            ('<', _) => "<",
            ('>', _) => ">",
            ('~', _) => "~",
            _ => return None,
        })
    }

    /// A bare word or field name: up to a blank, a bracket, a comma, a quote or a comparison sign.
    pub fn bare(&mut self) -> String {
        let from = self.at;
        while let Some(c) = self.peek() {
            if c.is_whitespace() || "(),\"`".contains(c) || self.sign().is_some() {
                break;
            }
            self.at += 1;
        }
        self.slice(from, self.at)
    }

    /// A bare value: up to a blank, a closing bracket or a comma.
    pub fn bare_value(&mut self) -> String {
        let from = self.at;
        while self.peek().is_some_and(|c| !c.is_whitespace() && c != ')' && c != ',') {
            self.at += 1;
        }
        self.slice(from, self.at)
    }

    /// The bare word at the cursor, not taken.
    pub fn peek_bare(&mut self) -> String {
        let from = self.at;
        let word = self.bare();
        self.at = from;
        word
    }

    /// Text between double quotes with JSON escapes; the opening quote is next. `None` where it does not close or an
    /// escape is broken; the cursor then stands at the end.
    pub fn quoted(&mut self) -> Option<String> {
        let from = self.at;
        self.at += 1;
        loop {
            match self.peek() {
                Some('\\') => self.at += 2,
                Some('"') => break,
                Some(_) => self.at += 1,
                None => return None,
            }
        }
        self.at += 1;
        serde_json::from_str(&self.slice(from, self.at).replace('\n', "\\n").replace('\t', "\\t")).ok()
    }

    /// Text between backquotes; no escapes.
    pub fn backquoted(&mut self) -> Option<String> {
        let from = self.at + 1;
        self.at += 1;
        while self.peek()? != '`' {
            self.at += 1;
        }
        self.at += 1;
        Some(self.slice(from, self.at - 1))
    }

    /// A pattern between slashes, `\/` standing for a slash, and whether `i` follows.
    pub fn regex(&mut self) -> Option<(String, bool)> {
        let from = self.at + 1;
        self.at += 1;
        loop {
            match self.peek()? {
                '\\' => self.at += 2,
                '/' => break,
                _ => self.at += 1,
            }
        }
        let pattern = self.slice(from, self.at).replace("\\/", "/");
        self.at += 1;
        let any_case = self.take('i');
        Some((pattern, any_case))
    }
}
