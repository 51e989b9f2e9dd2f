//! The language of GRUB configurations, parsed: commands, quotes, variables, conditions, menu entries (GNU GRUB manual, "Writing full
//! configuration files directly").

use std::rc::Rc;

/// Commands nest so deep at most.
const MOST_DEPTH: usize = 40;
/// So many commands of a configuration are parsed.
const MOST_COMMANDS: usize = 100_000;

/// A piece of a word.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) enum Piece {
    /// Text that stands for itself.
    Text(String),
    /// The value of a variable. Outside of quotes its value is several words where it has spaces.
    Variable { name: String, is_quoted: bool },
}

/// A word before its variables have values.
pub(super) type Word = Vec<Piece>;

/// A command.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) enum Command {
    /// A command with its arguments, and its block where it has one (`menuentry`, `submenu`).
    Simple { words: Vec<Word>, block: Option<Script> },
    /// `if`, with each `elif`, and `else`.
    If { arms: Vec<(Script, Script)>, otherwise: Script },
    /// `while`; `until` where `is_until`.
    While { is_until: bool, condition: Script, body: Script },
    /// `for`.
    For { name: String, words: Vec<Word>, body: Script },
    /// `function`.
    Function { name: String, body: Script },
}

/// Commands, shared because a menu keeps them.
pub(super) type Script = Rc<Vec<Command>>;

#[derive(Clone, Debug, PartialEq, Eq)]
enum Token {
    Word(Word),
    /// The end of a line, or a semicolon.
    End,
    Open,
    Close,
}

impl Token {
    /// The word, where it is one without quotes and variables.
    fn keyword(&self) -> Option<&str> {
        match self {
            Self::Word(word) => match &word[..] {
                [Piece::Text(text)] => Some(text),
                _ => None,
            },
            _ => None,
        }
    }
}

/// Reads `name`, `{name}`, `?`, `#`, `@` or a digit behind a dollar.
fn variable(letters: &mut std::iter::Peekable<std::str::Chars<'_>>) -> Option<String> {
    let mut name = String::new();
    let is_braced = letters.next_if_eq(&'{').is_some();
    if let Some(special) = letters.next_if(|letter| matches!(letter, '?' | '#' | '@' | '*')) {
        name.push(special);
    }
    while name.is_empty() || !matches!(name.as_bytes()[0], b'?' | b'#' | b'@' | b'*') {
        let Some(letter) = letters.next_if(|letter| letter.is_ascii_alphanumeric() || *letter == '_') else { break };
        name.push(letter);
    }
    if is_braced {
        letters.next_if_eq(&'}')?;
    }
    (!name.is_empty()).then_some(name)
}

fn tokens(text: &str) -> Vec<Token> {
    let (mut out, mut word, mut is_word): (Vec<Token>, Word, bool) = (Vec::new(), Vec::new(), false);
    let mut letters = text.chars().peekable();
    let mut quote = None;
    let push = |word: &mut Word, letter: char| match word.last_mut() {
        Some(Piece::Text(text)) => text.push(letter),
        _ => word.push(Piece::Text(letter.into())),
    };
    // An empty variable between quotes is a word; so are quotes with nothing in them.
    while let Some(letter) = letters.next() {
        match (quote, letter) {
            (Some('\''), '\'') | (Some('"'), '"') => quote = None,
            (Some('\''), _) => push(&mut word, letter),
            (_, '\\') => match letters.next() {
                // A line that goes on.
                Some('\n') => {}
                // Between double quotes only these are taken without it.
                Some(next) if quote.is_none() || matches!(next, '$' | '"' | '\\') => {
                    push(&mut word, next);
                    is_word = true;
                }
                Some(next) => {
                    push(&mut word, '\\');
                    push(&mut word, next);
                }
                None => {}
            },
            (_, '$') => {
                is_word = true;
                match variable(&mut letters) {
                    Some(name) => word.push(Piece::Variable { name, is_quoted: quote.is_some() }),
                    None => push(&mut word, '$'),
                }
            }
            (Some(_), _) => push(&mut word, letter),
            (None, '\'' | '"') => {
                (quote, is_word) = (Some(letter), true);
                // A word that is quoted is no keyword.
                word.push(Piece::Text(String::new()));
                if word.len() == 1 {
                    word.push(Piece::Text(String::new()));
                }
            }
            (None, '#') if !is_word => while letters.next_if(|letter| *letter != '\n').is_some() {},
            (None, _) if letter.is_whitespace() || matches!(letter, ';' | '{' | '}' | '|' | '&' | '<' | '>') && (!is_word || letter == ';') => {
                if std::mem::take(&mut is_word) {
                    out.push(Token::Word(std::mem::take(&mut word)));
                }
                match letter {
                    '\n' | ';' => out.push(Token::End),
                    '{' => out.push(Token::Open),
                    '}' => out.push(Token::Close),
                    _ => {}
                }
            }
            _ => {
                push(&mut word, letter);
                is_word = true;
            }
        }
    }
    if is_word {
        out.push(Token::Word(word));
    }
    out
}

struct Parser {
    tokens: Vec<Token>,
    at: usize,
    commands: usize,
}

impl Parser {
    fn peek(&self) -> Option<&Token> {
        self.tokens.get(self.at)
    }

    fn keyword(&self) -> Option<&str> {
        self.peek().and_then(Token::keyword)
    }

    fn skip_ends(&mut self) {
        while self.peek() == Some(&Token::End) {
            self.at += 1;
        }
    }

    /// Commands up to one of the words, which is not taken; `None` where they are too many or too deep. A text that ends within is as GRUB would
    /// have run it line by line: what was complete counts.
    fn script(&mut self, depth: usize, until: &[&str]) -> Option<Script> {
        let mut out = Vec::new();
        loop {
            self.skip_ends();
            let is_end = self.keyword().is_some_and(|word| until.contains(&word)) || self.peek() == Some(&Token::Close) && until.contains(&"}");
            if is_end || self.peek().is_none() {
                return Some(Rc::new(out));
            }
            if depth == MOST_DEPTH || self.commands == MOST_COMMANDS {
                return None;
            }
            self.commands += 1;
            out.push(self.command(depth + 1)?);
        }
    }

    /// Takes a word that has to be there; what lacks it ends there.
    fn expect(&mut self, word: &str) {
        self.skip_ends();
        if self.keyword() == Some(word) || word == "}" && self.peek() == Some(&Token::Close) {
            self.at += 1;
        }
    }

    fn block(&mut self, depth: usize) -> Option<Script> {
        self.at += 1;
        let script = self.script(depth, &["}"])?;
        self.expect("}");
        Some(script)
    }

    fn words(&mut self) -> Vec<Word> {
        let mut out = Vec::new();
        while let Some(Token::Word(word)) = self.peek() {
            out.push(word.clone());
            self.at += 1;
        }
        out
    }

    fn command(&mut self, depth: usize) -> Option<Command> {
        let keyword = self.keyword().unwrap_or_default().to_string();
        match keyword.as_str() {
            "if" => {
                let mut arms = Vec::new();
                let mut otherwise = Script::default();
                while matches!(self.keyword(), Some("if" | "elif")) {
                    self.at += 1;
                    let condition = self.script(depth, &["then"])?;
                    self.expect("then");
                    arms.push((condition, self.script(depth, &["elif", "else", "fi"])?));
                    if self.keyword() != Some("elif") {
                        break;
                    }
                }
                if self.keyword() == Some("else") {
                    self.at += 1;
                    otherwise = self.script(depth, &["fi"])?;
                }
                self.expect("fi");
                Some(Command::If { arms, otherwise })
            }
            "while" | "until" => {
                self.at += 1;
                let condition = self.script(depth, &["do"])?;
                self.expect("do");
                let body = self.script(depth, &["done"])?;
                self.expect("done");
                Some(Command::While { is_until: keyword == "until", condition, body })
            }
            "for" => {
                self.at += 1;
                let name = self.keyword().unwrap_or_default().to_string();
                self.at += 1;
                self.expect("in");
                let words = self.words();
                self.skip_ends();
                self.expect("do");
                let body = self.script(depth, &["done"])?;
                self.expect("done");
                Some(Command::For { name, words, body })
            }
            "function" => {
                self.at += 1;
                let name = self.keyword().unwrap_or_default().to_string();
                self.at += 1;
                self.skip_ends();
                let body = if self.peek() == Some(&Token::Open) { self.block(depth)? } else { Script::default() };
                Some(Command::Function { name, body })
            }
            _ => {
                let words = self.words();
                let block = if self.peek() == Some(&Token::Open) { Some(self.block(depth)?) } else { None };
                if words.is_empty() && block.is_none() {
                    // A closing brace, or a keyword where none belongs: passed over.
                    self.at += 1;
                }
                Some(Command::Simple { words, block })
            }
        }
    }
}

/// Parses a configuration; `None` where it has more commands, or deeper ones, than are followed here.
pub(super) fn parse(text: &str) -> Option<Script> {
    let mut parser = Parser { tokens: tokens(text), at: 0, commands: 0 };
    parser.script(0, &[])
}
